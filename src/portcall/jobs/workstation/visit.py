"""Being in a device's subnet for the time that a command needs, and out of it again."""

from __future__ import annotations

from collections.abc import Collection, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, replace
from ipaddress import IPv4Address, IPv4Interface, IPv4Network
from pathlib import Path

from portcall.core.adapters.adapter import Adapter
from portcall.core.adapters.own_address import candidates, wanted_for
from portcall.core.plan.rows import NO_PLAN, Plan
from portcall.core.trouble import NotPossibleHere
from portcall.host.privilege import Privilege
from portcall.host.rights import require_asking
from portcall.jobs.telling import Tell
from portcall.jobs.workstation.adapters import as_it_is_now
from portcall.jobs.workstation.match import (
    changing_addresses,
    first_in_force,
    put_in_force,
    refuse_managed,
    refuse_overlap,
)
from portcall.jobs.workstation.restore import Restored, restore_one
from portcall.site.folder import Site
from portcall.site.matches import open_matches, this_process
from portcall.site.visits import this_visit


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
    before = {entry.path for entry in open_matches()}
    try:
        go_in(adapter, target, site, tell, besides)
        yield as_it_is_now(adapter)
    finally:
        come_out(tell, before)


def go_in(
    adapter: Adapter,
    target: IPv4Address | IPv4Network,
    site: Site,
    tell: Tell,
    besides: Plan = NO_PLAN,
    prefix: int | None = None,
) -> IPv4Interface | None:
    """Add an address in the subnet of a device, or in a subnet, until ``come_out``.

    ``prefix`` is the device's own mask, where it told that and nobody else knows one. None where
    the adapter is in it already, by an address that stays. Raises NotPossibleHere.
    """
    adapter = as_it_is_now(adapter)
    there = _within(adapter, target)
    if there is not None and not _is_anothers(adapter, there):
        return None
    require_asking(Privilege.NET_ADMIN)
    plan = site.plan()
    wanted = wanted_for(target, plan, site.subnets)
    if prefix is not None and wanted.prefix_assumed and wanted.target is not None:
        network = IPv4Interface((wanted.target, prefix)).network
        wanted = replace(wanted, network=network, prefix_from="device")
    refuse_overlap(adapter, wanted.network)
    refuse_managed(adapter, False, tell)
    avoid = site.reserved(plan) | {each.address for each in besides}
    with changing_addresses():
        # Another command may have just added one. That of an open match is the match's, also
        # when its adapter has lost it meanwhile.
        adapter = as_it_is_now(adapter)
        avoid |= {entry.added.ip for entry in open_matches()}
        avoid |= {own.ip for own in adapter.interfaces}
        choices = candidates(wanted, site.workstation, avoid, site.starting)

        def put(address: IPv4Address) -> None:
            interface = IPv4Interface((address, wanted.network.prefixlen))
            put_in_force(as_it_is_now(adapter), interface, alone=False, visiting=True)

        address = first_in_force(adapter, choices, put, tell)
        if address is None:
            raise NotPossibleHere(f"{wanted.network}: no address is left for this computer")
        interface = IPv4Interface((address, wanted.network.prefixlen))
    tell(Visiting(adapter.name, interface))
    return interface


def come_out(tell: Tell, before: Collection[Path] = ()) -> list[Restored]:
    """Take off what this process added, but for what was written down ``before``.

    The record is asked, since whoever was interrupted may not know what was added last.
    """
    restored = []
    for entry in reversed(open_matches()):
        if entry.visitor == this_process() and entry.path not in before:
            restored.append(restore_one(entry))
            tell(restored[-1])
    return restored


def _within(adapter: Adapter, target: IPv4Address | IPv4Network) -> IPv4Interface | None:
    """The adapter's address from which a target is reached, or None.

    Raises NotPossibleHere for a target whose address this computer has itself.
    """
    if isinstance(target, IPv4Network):
        return next((own for own in adapter.interfaces if own.network == target), None)
    if any(own.ip == target for own in adapter.interfaces):
        raise NotPossibleHere(
            f"{target} is this computer's own address on {adapter.name}: no device is reached there"
        )
    return adapter.on_subnet_of(target)


def _is_anothers(adapter: Adapter, own: IPv4Interface) -> bool:
    """Whether an address is another command's, which takes it off when it ends.

    Not that of the visit in whose shell this runs: it outlasts this.
    """
    around = this_visit()
    lasting = (None, this_process(), around.visitor if around else None)
    return any(
        (entry.mac, entry.added) == (adapter.mac, own) and entry.visitor not in lasting
        for entry in open_matches()
    )


def put_back_forgotten(tell: Tell) -> None:
    """Undo what a command added that was killed before it could undo it itself."""
    for entry in reversed(open_matches()):
        if entry.is_forgotten:
            tell(Forgotten(restore_one(entry)))
