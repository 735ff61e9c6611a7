"""One look at the wire: every method that can run here, side by side, through one pacer."""

from __future__ import annotations

import asyncio
from collections.abc import Callable, Collection, Sequence
from contextlib import ExitStack, closing
from dataclasses import dataclass
from ipaddress import IPv4Address

from portcall.core.adapter import Adapter
from portcall.core.address import AddressRange
from portcall.core.find.arp_sweep import ArpSweep
from portcall.core.find.arrivals import Arrivals
from portcall.core.find.cip_identity import IdentityByDatagram
from portcall.core.find.overhear import Overhear
from portcall.core.find.sighting import Method, Sighting
from portcall.core.pacer import Pacer
from portcall.core.trouble import NotPossibleHere
from portcall.core.wire import cip
from portcall.host.datagrams import Datagrams
from portcall.host.link import Link
from portcall.host.runner import Runner

WIRE_METHODS = (Method.LISTEN, Method.ARP, Method.CIP)
"""The methods that use the wire, in the order in which they start."""

LISTEN_SECONDS = 4.0
"""A device without an address asks every few seconds; shorter than this misses it."""

_EVERYBODY = IPv4Address("255.255.255.255")


@dataclass(frozen=True, slots=True)
class NotRun:
    """A method that could not run here, and why."""

    method: Method
    reason: str


@dataclass(frozen=True, slots=True)
class Look:
    """What a look saw, and which methods could not take part."""

    sightings: tuple[Sighting, ...]
    not_run: tuple[NotRun, ...]


async def look(
    adapter: Adapter,
    ranges: Sequence[AddressRange],
    pace: float,
    methods: Collection[Method] = WIRE_METHODS,
    seen: Callable[[Sighting], None] = lambda sighting: None,
) -> Look:
    """Look with these methods; ``seen`` is called for each sighting as it comes.

    Listening lasts at least LISTEN_SECONDS and as long as the others take.
    """
    sightings: list[Sighting] = []
    not_run: list[NotRun] = []
    runner = Runner(Pacer(pace))

    def report(sighting: Sighting) -> None:
        sightings.append(sighting)
        seen(sighting)

    arrived: list[IPv4Address] = []
    with ExitStack() as stack:
        ends: list[asyncio.Event] = []
        link = _open_link(adapter, methods, not_run, stack, runner)
        if link is not None and adapter.mac is not None:
            runner.start(Arrivals(adapter.mac, cip.PORT), link, arrived.append)
            if Method.LISTEN in methods:
                overhear = Overhear(adapter.mac, LISTEN_SECONDS)
                ends.append(runner.start(overhear, link, report))
            if Method.ARP in methods and ranges:
                sweep = ArpSweep(adapter.mac, adapter.interfaces, ranges)
                ends.append(runner.start(sweep, link, report))
            elif Method.ARP in methods:
                reason = (
                    f"{adapter.name} has no address and no range was named; "
                    "type one: portcall find 10.61.20.0/24"
                )
                not_run.append(NotRun(Method.ARP, reason))
        ask = IdentityByDatagram((_EVERYBODY,))
        if Method.CIP in methods and adapter.addresses:
            datagrams = stack.enter_context(closing(Datagrams(adapter.name)))
            stack.callback(runner.drop, datagrams)
            ends.append(runner.start(ask, datagrams, report))
        elif Method.CIP in methods:
            reason = f"{adapter.name} has no address that a device could answer to"
            not_run.append(NotRun(Method.CIP, reason))
        for end in ends:
            await end.wait()
    if ask.refusal is not None:
        not_run.append(NotRun(Method.CIP, f"{ask.refusal}: the question did not leave"))
    elif Method.CIP in methods and adapter.addresses:
        heard = {sighting.address for sighting in sightings if sighting.method is Method.CIP}
        dropped = [
            str(a) for a in arrived if adapter.on_subnet_of(a) is not None and a not in heard
        ]
        if dropped:
            reason = (
                f"this computer's firewall drops the answers of {', '.join(dropped[:5])}"
                + (f" and {len(dropped) - 5} more" if len(dropped) > 5 else "")
                + f"; let UDP from port {cip.PORT} in"
            )
            not_run.append(NotRun(Method.CIP, reason))
    return Look(tuple(sightings), tuple(not_run))


def _open_link(
    adapter: Adapter,
    methods: Collection[Method],
    not_run: list[NotRun],
    stack: ExitStack,
    runner: Runner,
) -> Link | None:
    """The adapter's link, where it may be opened; what needs it and cannot run is noted."""
    try:
        link = stack.enter_context(closing(Link(adapter.name)))
    except NotPossibleHere as trouble:
        wanting = (m for m in (Method.LISTEN, Method.ARP) if m in methods)
        not_run += [NotRun(method, str(trouble)) for method in wanting]
        return None
    stack.callback(runner.drop, link)
    return link
