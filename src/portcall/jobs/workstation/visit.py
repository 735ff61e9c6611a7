"""Being in a device's subnet for the time that a command needs, and out of it again."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from ipaddress import IPv4Address, IPv4Interface

from portcall.core.adapters.adapter import Adapter
from portcall.core.adapters.own_address import candidates, wanted_for
from portcall.core.plan.rows import NO_PLAN, Plan
from portcall.core.trouble import NotPossibleHere
from portcall.host.privilege import Privilege, require
from portcall.jobs.telling import Tell
from portcall.jobs.workstation.adapters import as_it_is_now
from portcall.jobs.workstation.match import (
    changing_addresses,
    free_address,
    put_in_force,
    refuse_managed,
    refuse_overlap,
)
from portcall.jobs.workstation.restore import Restored, restore_one
from portcall.site.folder import Site
from portcall.site.matches import open_matches, this_process


@dataclass(frozen=True, slots=True)
class Visiting:
    """An address was added, and goes when the command ends."""

    adapter: str
    interface: IPv4Interface

    def __str__(self) -> str:
        return f"{self.adapter}: {self.interface} added until this ends"


@dataclass(frozen=True, slots=True)
class Forgotten:
    """An address that a killed command had added is put back."""

    restored: Restored

    def __str__(self) -> str:
        return f"from a command that was killed: {self.restored}"


@contextmanager
def visit(
    adapter: Adapter, target: IPv4Address, site: Site, tell: Tell, besides: Plan = NO_PLAN
) -> Iterator[Adapter]:
    """The adapter while it is in the subnet of a device, put back afterwards.

    ``besides`` has addresses that are planned though the site's plan has them not. What a visit
    left behind that was killed is put back first. Raises NotPossibleHere.
    """
    put_back_forgotten(tell)
    adapter = as_it_is_now(adapter)
    there = adapter.on_subnet_of(target)
    if there is not None and not _is_anothers(adapter, there):
        yield adapter
        return
    require(Privilege.NET_ADMIN, Privilege.NET_RAW)
    plan = site.plan()
    wanted = wanted_for(target, plan, site.subnets)
    refuse_overlap(adapter, wanted.network)
    refuse_managed(adapter, False, tell)
    avoid = site.reserved(plan) | {each.address for each in besides}
    interface = None
    try:
        with changing_addresses():
            # Another command may have just added one. That of an open match is the match's, also
            # when its adapter has lost it meanwhile.
            adapter = as_it_is_now(adapter)
            avoid |= {entry.added.ip for entry in open_matches()}
            avoid |= {own.ip for own in adapter.interfaces}
            address = free_address(adapter, candidates(wanted, site.workstation, avoid), tell)
            if address is None:
                raise NotPossibleHere(f"{wanted.network}: no address is left for this computer")
            interface = IPv4Interface((address, wanted.network.prefixlen))
            put_in_force(adapter, interface, alone=False, visiting=True)
        tell(Visiting(adapter.name, interface))
        yield as_it_is_now(adapter)
    finally:
        for entry in open_matches():
            mine = entry.visitor == this_process()
            if mine and entry.adapter == adapter.name and entry.added == interface:
                tell(restore_one(entry))


def _is_anothers(adapter: Adapter, own: IPv4Interface) -> bool:
    """Whether an address is another command's, which takes it off when it ends."""
    return any(
        (entry.mac, entry.added) == (adapter.mac, own)
        and entry.visitor not in (None, this_process())
        for entry in open_matches()
    )


def put_back_forgotten(tell: Tell) -> None:
    """Undo what a command added that was killed before it could undo it itself."""
    for entry in reversed(open_matches()):
        if entry.is_forgotten:
            tell(Forgotten(restore_one(entry)))
