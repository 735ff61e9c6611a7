"""First echoes and attempts at doors, watched at the sockets and at the adapters."""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, replace
from ipaddress import IPv4Address

from portcall.core.adapters.adapter import Adapter, AdapterKind
from portcall.core.find.protocols import AT_DOOR, BEHIND_DOORS
from portcall.core.find.sighting import Method, Said, Sighting
from portcall.core.reach.echo_facts import Fact, Replied, Undelivered
from portcall.core.reach.ping import Ping
from portcall.core.talk.conversation import Endpoint
from portcall.core.talk.door_knock import ANSWER_WAIT, DoorState, Knock
from portcall.core.trouble import NotPossibleHere
from portcall.core.why.evidence import FEW_LOST, EchoSeen, Trial, lost_by_chance
from portcall.core.why.frames_seen import FramesSeen
from portcall.host.echoes import Echoes, own_identifier
from portcall.host.link import Link
from portcall.host.medium import NoPings
from portcall.host.runner import FORBIDDEN, Runner
from portcall.host.vantage import Vantage
from portcall.jobs.look.ask import talk_at
from portcall.jobs.look.converse import Talk, converse
from portcall.jobs.look.echoed import echoed
from portcall.jobs.telling import nobody

_FIRST_ECHOES, _FIRST_EVERY = 4, 0.15

_FIRST_WAIT = 4.5
"""Seconds: radios, sleeping devices and gateways to slow wires answer after up to four."""

_DROPPED_AFTER = 0.3
"""Seconds after which an answer that came to the adapter and to no program does not come to one."""

_LOOK = 0.05
_ROUTED_EVERY = 0.8
"""Routers say once a second or so, and not oftener, that something cannot be delivered."""

ROUTER_WAIT = 3.5
"""Seconds in which a router says that it finds nobody: ARP takes it three (RFC 1122 §2.3.2.1)."""

_ECHOES, _EVERY, _WAIT = 30, 0.03, 1.0
_SLOW_ECHOES, _SLOW_EVERY = 5, 1.2
"""For a device that may limit how many it answers."""

_SLOWER = 2.5
"""Times as long as the first answer took may each take that follows."""

_LARGE_ECHOES, _LARGE_EVERY, _LARGE_WAIT = 3, 0.05, 0.6
_STEPS = 4
"""How often the largest packet that passes is halved down to."""

_SMALLEST = 90
_FULL_LENGTH = 1500
"""Octets of IPv4 in the longest frame that every Ethernet takes (RFC 894): an adapter may be set to
take longer ones, and a device that does not is not at fault."""
_FIRST_SEQUENCE = 1000

MOST_TALKS = 3
"""Doors behind which it is asked who is there."""

_MOST_ERRORS = 16


@dataclass(slots=True)
class Watch:
    """Watches at the adapter with the plant's cable, and at the others; None: no privilege."""

    here: FramesSeen | None
    elsewhere: dict[str, FramesSeen]


@contextmanager
def watching(
    runner: Runner, adapter: Adapter, adapters: Sequence[Adapter], address: IPv4Address
) -> Iterator[Watch]:
    """While the block runs, watch what goes to an address and what comes from it."""
    links: list[Link] = []
    watch = Watch(None, {})
    try:
        for each in adapters:
            is_here = each.name == adapter.name
            if each.mac is None or not each.link or each.kind is AdapterKind.LOOPBACK:
                continue
            try:
                link = Link(each.name, outgoing=is_here)
            except NotPossibleHere:
                continue
            links.append(link)
            seen = FramesSeen(each.mac, address, own_identifier())
            runner.start(seen, link, nobody)
            if is_here:
                watch.here = seen
            else:
                watch.elsewhere[each.name] = seen
        yield watch
    finally:
        for link in links:
            runner.drop(link)
            link.close()


async def try_echoes(
    runner: Runner,
    adapter: Adapter,
    address: IPv4Address,
    trial: Trial,
    routed: bool,
    watch: Watch,
) -> None:
    """A few echoes, into ``trial``; ends as soon as one is answered, or was seen to be dropped."""
    every, wait = (_ROUTED_EVERY, ROUTER_WAIT) if routed else (_FIRST_EVERY, _FIRST_WAIT)
    own = [interface.ip for interface in adapter.interfaces]
    answered = asyncio.Event()

    def take(fact: Fact) -> None:
        trial.echoes += 1
        if isinstance(fact, Replied):
            trial.answered += 1
            trial.seconds = fact.seconds
            answered.set()
        elif fact.told is not None:
            if len(trial.errors) < _MOST_ERRORS:
                trial.errors.append(fact.told)
            if routed:
                answered.set()
        elif fact.reason == FORBIDDEN:
            trial.refused = fact.reason

    try:
        opened = Echoes(adapter.name)
    except NoPings as trouble:
        # The ports are tried all the same.
        trial.no_echoes = str(trouble)
        return
    with runner.using(opened) as echoes:
        ping = Ping([address], echoes.identifier, _FIRST_ECHOES, every, wait, own)
        end = runner.start(ping, echoes, take)
        waits = [asyncio.ensure_future(each) for each in (end.wait(), answered.wait())]
        try:
            # A router that answers the first echo so answers all echoes of that time so.
            longest = ROUTER_WAIT if routed else None
            waits.append(asyncio.ensure_future(_dropped(watch)))
            await asyncio.wait(waits, timeout=longest, return_when=asyncio.FIRST_COMPLETED)
        finally:
            for each in waits:
                each.cancel()
    trial.echoes = 1 if trial.answered else _FIRST_ECHOES


async def stands_in_subnet(
    runner: Runner, adapter: str, told: Undelivered, candidates: Sequence[IPv4Address]
) -> bool:
    """Whether the router that ``told`` something has one of these addresses itself.

    Who answers at one of them as many hops away as its message came from is taken for it.
    """
    came = await echoed(runner, adapter, candidates)
    return told.ttl is not None and told.ttl in [reply.ttl for reply in came.values()]


async def _dropped(watch: Watch) -> None:
    """Ends when an answer came to the adapter, and has had time to come to its program."""
    while watch.here is None or not watch.here.echoes:
        await asyncio.sleep(_LOOK)
    await asyncio.sleep(_DROPPED_AFTER)


def _patience(trial: Trial, usual: float) -> float:
    """Seconds to wait for each answer of a device, by how long it took for its first one."""
    return max(usual, _SLOWER * trial.seconds)


async def try_doors(
    runner: Runner,
    adapter: str,
    address: IPv4Address,
    ports: Sequence[int],
    trial: Trial,
    talks: bool = False,
) -> None:
    """Try doors, and close those that open, into ``trial``.

    With ``talks``, what is behind the first few of a known protocol is asked who it is before, over
    the same connection: small devices have few.
    """
    proven = (address,) if trial.answered else ()
    said: list[Said] = []

    def opened(door: Endpoint) -> Talk:
        nonlocal said
        if not talks or door.port not in AT_DOOR or len(trial.said) >= MOST_TALKS:
            return Talk(Method.PORTS)
        # A device has one connection at a time, so speak on the last one that opened.
        said = trial.said[door.port] = []
        return talk_at(door, BEHIND_DOORS)

    def settled(knock: Knock) -> None:
        assert knock.state is not None
        trial.doors[knock.door.port] = knock.state

    def report(seen: Sighting) -> None:
        said.extend(seen.said)

    await converse(
        runner,
        Vantage(adapter),
        {address: ports},
        opened,
        report,
        proven,
        wait=_patience(trial, ANSWER_WAIT),
        settled=settled,
    )


async def note_seen(trial: Trial, watch: Watch, strict: frozenset[str]) -> None:
    """Put what was seen at the adapters into ``trial``.

    A door that was refused, without that a refusal of the device came to the adapter, was refused
    by something else: by this computer itself, or by a filter that says so (RFC 1122 §3.2.2.1).
    """
    trial.strict = strict
    if watch.here is not None:
        here = watch.here
        refused = {port for port, state in trial.doors.items() if state is DoorState.REFUSED}
        if not refused <= here.ports_in:
            # A separate thread reads the frames, and may be a moment later than the sockets.
            await asyncio.sleep(_LOOK)
        for port in refused - here.ports_in:
            trial.doors[port] = DoorState.SILENT
            trial.forbidden.add(port)
        trial.seen_out, trial.seen_in, trial.echoes_in = here.out, here.came, here.echoes
        trial.ports_out, trial.ports_in = set(here.ports_out), set(here.ports_in)
    trial.elsewhere = {name: seen.came for name, seen in watch.elsewhere.items() if seen.came}


async def measure(runner: Runner, adapter: Adapter, address: IPv4Address, trial: Trial) -> EchoSeen:
    """A series of echoes, then large ones, and how large they may be where those are lost.

    Who took long for the first answer is waited for as long at each: late is not lost.
    """
    wait = _patience(trial, _WAIT)
    large_wait = _patience(trial, _LARGE_WAIT)
    own = [interface.ip for interface in adapter.interfaces]
    sequence = _FIRST_SEQUENCE
    too_long: list[Undelivered] = []

    async def series(
        echoes: Echoes, count: int, every: float, wait: float, size: int
    ) -> list[Replied]:
        nonlocal sequence
        replied: list[Replied] = []

        def take(fact: Fact) -> None:
            if isinstance(fact, Replied):
                replied.append(fact)
            elif fact.told is not None and fact.told.mtu:
                too_long.append(fact.told)

        ping = Ping([address], echoes.identifier, count, every, wait, own, (size,), first=sequence)
        sequence += count
        await runner.run(ping, echoes, take)
        return replied

    with runner.using(Echoes(adapter.name, whole=True)) as echoes:
        small = await series(echoes, _ECHOES, _EVERY, wait, _SMALLEST)
        sent = _ECHOES
        if 0 < sent - len(small) < 3:
            # One loss may be chance; a second look shows.
            small += await series(echoes, _ECHOES, _EVERY, wait, _SMALLEST)
            sent += _ECHOES
        times = [each.seconds for each in small]
        ttl = next((each.ttl for each in small if each.ttl is not None), None)
        if len(small) < sent:
            came = [each.sequence - _FIRST_SEQUENCE for each in small]
            seen = EchoSeen(sent, len(small), times, ttl, by_chance=lost_by_chance(came, sent))
            if seen.by_chance or sent - len(small) < FEW_LOST:
                return seen
            slowly = await series(echoes, _SLOW_ECHOES, _SLOW_EVERY, wait, _SMALLEST)
            return replace(seen, slow_sent=_SLOW_ECHOES, slow_received=len(slowly))
        large = min(adapter.mtu, _FULL_LENGTH)

        async def passes(size: int, count: int = _LARGE_ECHOES) -> int:
            return len(await series(echoes, count, _LARGE_EVERY, large_wait, size))

        back = await passes(large)
        told = next((each for each in too_long if not back), None)
        passed = told.mtu if told is not None else None
        if not back and told is None:
            passed = await _largest(passes, _SMALLEST, large)
    sums = (sent, len(small), times, ttl)
    return EchoSeen(*sums, _LARGE_ECHOES, back, large, passed, told)


async def _largest(passes: Callable[[int, int], Awaitable[int]], low: int, high: int) -> int:
    """About the largest packet that passes, between one that does and one that does not."""
    for _ in range(_STEPS):
        middle = (low + high) // 2
        if await passes(middle, 2):
            low = middle
        else:
            high = middle
    return low
