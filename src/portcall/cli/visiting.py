"""Being in a device's subnet for the time that a command needs, and out of it again."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from ipaddress import IPv4Address, IPv4Interface

from portcall.cli.matching import free_address, put_in_force, refuse_managed, refuse_overlap
from portcall.cli.restore import restore_one
from portcall.cli.say import note
from portcall.cli.workplace import adapters_now, never_ours
from portcall.core.adapters.adapter import Adapter
from portcall.core.adapters.own_address import candidates, wanted_for
from portcall.core.plan.rows import NO_PLAN, Plan
from portcall.core.trouble import NotPossibleHere
from portcall.host.privilege import Privilege, require
from portcall.site import journal
from portcall.site.folder import Site


@contextmanager
def visit(
    adapter: Adapter, target: IPv4Address, site: Site, besides: Plan = NO_PLAN
) -> Iterator[Adapter]:
    """The adapter while it is in the subnet of a device, put back afterwards.

    ``besides`` has addresses that are planned though the site's plan has them not. What a visit
    left behind that was killed is put back first. Raises NotPossibleHere.
    """
    put_back_forgotten()
    adapter = next((each for each in adapters_now() if each.index == adapter.index), adapter)
    if adapter.on_subnet_of(target) is not None:
        yield adapter
        return
    require(Privilege.NET_ADMIN, Privilege.NET_RAW)
    plan = site.plan()
    wanted = wanted_for(target, plan, site.subnets)
    refuse_overlap(adapter, wanted.network)
    refuse_managed(adapter, replace=False)
    avoid = never_ours(site, plan) | {each.address for each in besides}
    address = free_address(adapter, candidates(wanted, site.workstation, avoid))
    if address is None:
        raise NotPossibleHere(f"{wanted.network}: no address is left for this computer")
    interface = IPv4Interface((address, wanted.network.prefixlen))
    put_in_force(adapter, interface, replace=False, visiting=True)
    note(f"{adapter.name}: {interface} added until this ends")
    try:
        yield next(each for each in adapters_now() if each.index == adapter.index)
    finally:
        for entry in journal.open_matches():
            if entry.adapter == adapter.name and entry.added == interface:
                note(restore_one(entry)[1])


def put_back_forgotten() -> None:
    """Undo what a command added that was killed before it could undo it itself."""
    for entry in reversed(journal.open_matches()):
        if entry.is_forgotten:
            note(f"from a command that was killed: {restore_one(entry)[1]}")
