"""The holders of addresses, and addresses that are free."""

from __future__ import annotations

import asyncio
from collections.abc import Callable, Container, Iterator, Sequence
from ipaddress import IPv4Address

from portcall.core.adapters.adapter import Adapter
from portcall.core.address import AddressRange, Mac
from portcall.core.find.arp_sweep import ArpSweep
from portcall.core.find.sighting import Sighting
from portcall.core.finding import Finding
from portcall.core.setting import sentences as say
from portcall.core.setting.job import Job
from portcall.core.talk.conversation import Frame
from portcall.core.talk.pacer import Pacer
from portcall.core.talk.probe import AddressProbe, Free, Taken
from portcall.host.address_link import AddressLink
from portcall.host.link import Link
from portcall.host.medium import Medium
from portcall.host.runner import Runner
from portcall.jobs.telling import nobody


async def holders_of(adapter: Adapter, address: IPv4Address) -> set[Mac]:
    """The MACs that answer for an address, within a second. Raises NotPossibleHere."""
    assert adapter.mac is not None
    found: set[Mac] = set()

    def report(seen: Sighting) -> None:
        if seen.address == address and seen.mac is not None:
            found.add(seen.mac)

    runner = Runner(Pacer())
    sweep = ArpSweep(adapter.mac, adapter.interfaces, (AddressRange(address, address),))
    with runner.using(AddressLink(adapter.name)) as link:
        await runner.run(sweep, link, report)
    return found


async def free_among(
    runner: Runner,
    link: Medium[Frame],
    probes: Sequence[AddressProbe],
    taken: Callable[[Taken], None] = nobody,
    begun: bool = False,
) -> set[IPv4Address]:
    """The addresses that nobody answers for, all probed side by side (RFC 5227).

    ``taken`` is told of each that somebody has; probes that have ``begun`` are gone on with.
    """
    free: set[IPv4Address] = set()

    def report(fact: Free | Taken) -> None:
        if isinstance(fact, Taken):
            taken(fact)
        else:
            free.add(fact.address)

    for end in [runner.start(probe, link, report, begun) for probe in probes]:
        await end.wait()
    return free


async def free_to_borrow(
    runner: Runner,
    link: Link,
    choices: Iterator[IPv4Address],
    known: Container[IPv4Address] = (),
) -> IPv4Address | None:
    """The first of some addresses that nobody answers for, and that is not among those known since.

    A few of them are tried; None when all of those are taken.
    """
    for _ in range(_CANDIDATE_BATCHES):
        batch = [address for address, _ in zip(choices, range(_CANDIDATES_AT_ONCE), strict=False)]
        probes = [AddressProbe(link.mac, address) for address in batch]
        free = await free_among(runner, link, probes)
        best = next((each for each in batch if each in free and each not in known), None)
        if best is not None:
            return best
    return None


_CANDIDATES_AT_ONCE = 2
_CANDIDATE_BATCHES = 3
MOST_TRIED = _CANDIDATES_AT_ONCE * _CANDIDATE_BATCHES


def taken_by(adapter: Adapter, job: Job) -> Finding | None:
    """A finding about another holder of a device's wanted address; None without one."""
    others = sorted(asyncio.run(holders_of(adapter, job.interface.ip)) - {job.mac})
    return say.ADDRESS_TAKEN(address=job.interface.ip, mac=others[0]) if others else None
