"""Putting this computer into a subnet: refuse, probe, write down, change, read back.

What needs asyncio is imported where it is used: a match without a probe has 300 ms in all, and does
without it.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager
from dataclasses import dataclass, replace
from ipaddress import IPv4Address, IPv4Interface, IPv4Network
from itertools import islice
from typing import TYPE_CHECKING

from portcall.core.adapters.adapter import Adapter
from portcall.core.adapters.own_address import AddressTaken, Wanted, candidates
from portcall.core.finding import Line
from portcall.core.plan.rows import Plan
from portcall.core.talk.probe import PROBE_TIME, Taken
from portcall.core.trouble import NotPossibleHere
from portcall.core.wire.dhcp import prefix_length
from portcall.host.adapters import leaves_by, link_counters, managed_by
from portcall.host.addresses import (
    add_address,
    asks_itself,
    found_taken,
    put_back,
    remove_address,
    save,
    take_off,
)
from portcall.host.privilege import Privilege
from portcall.host.rights import require, require_asking
from portcall.jobs.telling import Tell
from portcall.jobs.workstation.adapters import adapters_now
from portcall.jobs.workstation.free_address import first_free
from portcall.site import matches
from portcall.site.folder import Site
from portcall.site.moment import Moment
from portcall.site.turns import turn

if TYPE_CHECKING:
    from portcall.core.assign.lookout import Offer


@dataclass(frozen=True, slots=True)
class Managed:
    """A network manager runs the adapter, and may undo what is done."""

    adapter: str
    manager: str

    def __str__(self) -> str:
        return f"{self.adapter} is run by {self.manager}; when that reconnects it, match again"


@dataclass(frozen=True, slots=True)
class Probing:
    """A question is out on the wire for a free address."""

    adapter: str

    def __str__(self) -> str:
        return f"asking on {self.adapter} which address is free, {PROBE_TIME:.0f} s …"


@dataclass(frozen=True, slots=True)
class HandsOut:
    """A server hands out addresses of the subnet that this computer is put into."""

    server: IPv4Address
    network: IPv4Network

    def __str__(self) -> str:
        return (
            f"{self.server} hands out addresses of {self.network}; to have one that it knows of: "
            f"{Line('match', '--dhcp')}"
        )


@dataclass(frozen=True, slots=True)
class Matched:
    """The result of a match; ``before`` is the adapter as it was.

    ``prefix_from`` says who knew the mask; ``alone`` that the other addresses were taken off.
    """

    before: Adapter
    interface: IPv4Interface
    target: IPv4Address | None
    prefix_from: str
    added: bool = True
    alone: bool = False
    lease: matches.Lease | None = None


@dataclass(frozen=True, slots=True)
class InForce:
    """The kernel's view of a match: is the address there, and which adapter do packets take?

    Without a link, nobody can be reached by it.
    """

    addresses: tuple[IPv4Interface, ...]
    towards: IPv4Address
    leaves_by: str | None
    has_link: bool
    is_so: bool


def refuse_overlap(adapter: Adapter, network: IPv4Network) -> None:
    """Raise NotPossibleHere when another adapter is in an overlapping subnet."""
    for other in adapters_now():
        for its in other.interfaces:
            if other.name != adapter.name and its.network.overlaps(network):
                raise NotPossibleHere(
                    f"{network} overlaps {its.network} on {other.name}: packets could leave by "
                    "the wrong adapter",
                    f"disconnect {other.name}, or use it with --adapter {other.name}",
                )


def refuse_managed(adapter: Adapter, alone: bool, tell: Tell) -> None:
    """Raise NotPossibleHere where a network manager would undo what is about to be done."""
    manager = managed_by(adapter)
    if manager and alone:
        raise NotPossibleHere(
            f"{adapter.name} is run by {manager}, which would put its addresses back at once",
            f"tell {manager} to leave {adapter.name} alone, or match without --replace",
        )
    if manager:
        tell(Managed(adapter.name, manager))


def changing_addresses() -> AbstractContextManager[None]:
    """Choose an address and put it in force without another command doing the same meanwhile."""
    return turn("addresses", "is putting this computer into a subnet", _PATIENCE)


_PATIENCE = 20.0
"""Seconds: as long as it takes to ask for a few addresses, one after the other."""


def free_address(
    adapter: Adapter,
    choices: Iterator[IPv4Address],
    tell: Tell,
    offered: Callable[[Offer], None] | None = None,
) -> IPv4Address | None:
    """The first of these that nobody has, by asking on the wire; see ``first_free``."""
    tell(Probing(adapter.name))
    return first_free(adapter, choices, tell, offered)


def first_in_force(
    adapter: Adapter,
    choices: Iterator[IPv4Address],
    put: Callable[[IPv4Address], None],
    tell: Tell,
    probe: bool = True,
    offered: Callable[[Offer], None] | None = None,
) -> IPv4Address | None:
    """Have the first of these put in force that nobody has; None when there is none.

    Whether somebody has it is asked before; by the operating system as it is put in force, where
    nobody else can ask.
    """
    if probe and asks_itself():
        tell(Probing(adapter.name))
        for address in islice(choices, _MOST_BY_THE_SYSTEM):
            try:
                put(address)
            except AddressTaken as taken:
                tell(taken)
            else:
                return address
        return None
    free = free_address(adapter, choices, tell, offered) if probe else next(choices, None)
    if free is not None:
        put(free)
    return free


_MOST_BY_THE_SYSTEM = 16
"""Addresses that are tried one after the other, each for some seconds."""


def put_in_force(
    adapter: Adapter,
    interface: IPv4Interface,
    alone: bool,
    lease: matches.Lease | None = None,
    visiting: bool = False,
) -> None:
    """Write down what is about to change, then change it. Raises NotPossibleHere; AddressTaken
    where the operating system finds that somebody has the address, and nothing is changed then.

    An address that is there already by a lease is there for as long as its new one says.
    """
    assert adapter.mac is not None
    taken_off = save(adapter, but=interface) if alone else ()
    entry = matches.OpenMatch(
        adapter.name,
        adapter.mac,
        interface,
        matches.lasting(adapter.interfaces),
        taken_off,
        Moment.now(),
        matches.this_process() if visiting else None,
        lease,
        adapter.guid,
    )
    is_new = not entry.path.exists()
    matches.write_down(entry)
    take_off(adapter, taken_off)
    lifetime = None if lease is None or lease.seconds is None else max(int(lease.seconds_left), 1)
    try:
        add_address(adapter, interface, lifetime)
    except AddressTaken:
        put_back(adapter, taken_off, 0.0)
        # One that was open before still knows what it took off then.
        if is_new:
            matches.close(entry)
        raise


def is_taken(adapter: Adapter, own: IPv4Interface) -> bool:
    """Whether somebody else answers for an address that this computer has."""
    if asks_itself():
        return found_taken(adapter, own)
    return first_free(adapter, iter((own.ip,)), lambda taken: None) is None


def choices_for(
    adapter: Adapter, wanted: Wanted, own: IPv4Interface | None, site: Site, plan: Plan
) -> Iterator[IPv4Address]:
    """The addresses to try, best first: the one that was typed, or those that a match may take.

    Raises NotPossibleHere where another adapter is in an overlapping subnet.
    """
    refuse_overlap(adapter, wanted.network)
    if own is not None:
        return iter((own.ip,))
    return candidates(wanted, site.workstation, _not_for_this_computer(site, plan), site.starting)


def _not_for_this_computer(site: Site, plan: Plan) -> set[IPv4Address]:
    own = {address.ip for other in adapters_now() for address in other.interfaces}
    return site.reserved(plan) | own


def not_for_devices(site: Site, plan: Plan) -> set[IPv4Address]:
    """Addresses that no device to come may have: planned, reserved, or this computer's."""
    matched = {entry.added.ip for entry in matches.open_matches()}
    workstation = {site.workstation} if site.workstation else set()
    return _not_for_this_computer(site, plan) | matched | workstation


def require_for_match(probe: bool, instead: str) -> None:
    """Raise NotPossibleHere when this process may not match; ``instead`` is what it still may."""
    needs = require_asking if probe else require
    needs(Privilege.NET_ADMIN, instead=instead)


def match(
    adapter: Adapter,
    wanted: Wanted,
    choices: Iterator[IPv4Address],
    alone: bool,
    probe: bool,
    tell: Tell,
    typed: bool = False,
) -> Matched:
    """Take the first free address and put it in force; ``typed`` is one that a person chose.

    Raises NotPossibleHere.
    """
    losses = link_counters(adapter.name).losses
    taken: list[Taken | AddressTaken] = []

    def told(fact: object) -> None:
        if typed and isinstance(fact, (Taken, AddressTaken)):
            taken.append(fact)
        else:
            tell(fact)

    def offered(offer: Offer) -> None:
        if offer.network is not None and offer.network.overlaps(wanted.network):
            tell(HandsOut(offer.server, offer.network))

    def put(address: IPv4Address) -> None:
        _refuse_lost_link(adapter, losses)
        put_in_force(adapter, IPv4Interface((address, wanted.network.prefixlen)), alone)

    # Who comes with an address that is left over from elsewhere may not know that one is given.
    asks = offered if adapter.interfaces and not typed else None
    with changing_addresses():
        address = first_in_force(adapter, choices, put, told, probe, asks)
        if address is None:
            _refuse_lost_link(adapter, losses)
        if taken:
            raise NotPossibleHere(f"{taken[0]}", "nothing is changed")
        if address is None:
            raise NotPossibleHere(
                f"{wanted.network}: no address is left for this computer",
                "choose one yourself with --address",
            )
    interface = IPv4Interface((address, wanted.network.prefixlen))
    matched = Matched(adapter, interface, wanted.target, wanted.prefix_from, alone=alone)
    if wanted.prefix_assumed and wanted.target is not None and probe:
        corrected = _by_the_devices_mask(adapter, interface, wanted.target)
        if corrected is not None:
            return replace(matched, interface=corrected, prefix_from="device")
    return matched


def _refuse_lost_link(adapter: Adapter, losses: int | None) -> None:
    """Raise NotPossibleHere when the link was lost meanwhile: who has an address was not heard."""
    now = next((each for each in adapters_now() if each.index == adapter.index), None)
    if now is None or not now.link or link_counters(adapter.name).losses != losses:
        raise NotPossibleHere(
            f"{adapter.name} lost its link meanwhile: whether an address is free is not known, "
            "and nothing is changed",
            "check the cable, and type this again",
        )


def _by_the_devices_mask(
    adapter: Adapter, interface: IPv4Interface, target: IPv4Address
) -> IPv4Interface | None:
    """Ask the device for its mask, and take it over; None when it does not tell a usable one."""
    import asyncio

    from portcall.jobs.look.mask import read_mask

    mask = asyncio.run(read_mask(adapter.name, target))
    prefix = prefix_length(mask) if mask else None
    if prefix is None or not 1 <= prefix <= 30:
        return None
    corrected = IPv4Interface((interface.ip, prefix))
    if corrected == interface:
        return interface
    edges = (corrected.network.network_address, corrected.network.broadcast_address)
    if interface.ip in edges or target not in corrected.network:
        return None
    refuse_overlap(adapter, corrected.network)
    # Another adapter, which was pulled out, may have been matched to the same address.
    first = next(
        each
        for each in matches.open_matches()
        if (each.adapter, each.mac, each.added) == (adapter.name, adapter.mac, interface)
    )
    matches.write_down(replace(first, added=corrected))
    add_address(adapter, corrected)
    remove_address(adapter, interface)
    matches.close(first)
    return corrected


def in_force(matched: Matched) -> InForce:
    """Read back from the kernel what is in force; nothing is said from memory."""
    before, interface = matched.before, matched.interface
    now = next((a for a in adapters_now() if a.index == before.index), None)
    other = matched.target or next(h for h in interface.network.hosts() if h != interface.ip)
    leaves = leaves_by(other)
    addresses = now.interfaces if now else ()
    has_link = now is not None and now.link
    is_so = has_link and interface in addresses and leaves == before.name
    return InForce(addresses, other, leaves, has_link, is_so)
