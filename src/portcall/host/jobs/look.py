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
from portcall.core.find.cip_identity import IdentityByDatagram
from portcall.core.find.overhear import Overhear
from portcall.core.find.sighting import Method, Sighting
from portcall.core.pacer import Pacer
from portcall.core.trouble import NotPossibleHere
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

    with ExitStack() as stack:
        ends: list[asyncio.Event] = []
        wants_link = {Method.LISTEN, Method.ARP}.intersection(methods)
        if wants_link and adapter.mac is not None:
            try:
                link = stack.enter_context(closing(Link(adapter.name)))
                stack.callback(runner.drop, link)
            except NotPossibleHere as trouble:
                not_run += [NotRun(m, str(trouble)) for m in WIRE_METHODS if m in wants_link]
            else:
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
        if Method.CIP in methods:
            if adapter.addresses:
                datagrams = stack.enter_context(closing(Datagrams(adapter.name)))
                stack.callback(runner.drop, datagrams)
                ask = IdentityByDatagram((_EVERYBODY,))
                ends.append(runner.start(ask, datagrams, report))
            else:
                reason = f"{adapter.name} has no address that a device could answer to"
                not_run.append(NotRun(Method.CIP, reason))
        for end in ends:
            await end.wait()
    return Look(tuple(sightings), tuple(not_run))
