"""Sending echoes and trying doors, of any number of targets, over one adapter."""

from __future__ import annotations

import asyncio
from collections.abc import Callable, Sequence
from contextlib import ExitStack
from dataclasses import dataclass
from ipaddress import IPv4Address

from portcall.core.adapters.adapter import Adapter
from portcall.core.reach.echo_facts import Fact, Replied, Target
from portcall.core.reach.knocking import SILENT, Knocking
from portcall.core.reach.ping import OCTETS, Ping
from portcall.core.talk.conversation import Endpoint
from portcall.core.talk.pacer import Pace
from portcall.host.doors import Doors
from portcall.host.echoes import Echoes
from portcall.host.runner import End, Runner
from portcall.host.vantage import Vantage
from portcall.jobs.together import end, together


@dataclass(frozen=True, slots=True)
class Rounds:
    """Rounds of questions: targets over an adapter, a round every ``interval`` seconds,
    ``wait`` seconds for each answer, ``pace`` packets a second at most; ``sizes`` are the lengths
    of the IPv4 packets that are sent by turns. Without a ``vantage``, the kernel chooses which of
    the adapter's addresses they come from.
    """

    adapter: Adapter
    targets: Sequence[Target]
    pace: Pace
    interval: float = 1.0
    wait: float = 1.0
    sizes: Sequence[int] = (OCTETS,)
    vantage: Vantage | None = None

    @property
    def asked_from(self) -> Vantage:
        """Where the questions come from."""
        return self.vantage or Vantage(self.adapter.name)

    @property
    def own(self) -> list[IPv4Address]:
        """The addresses from which they may come."""
        here = self.vantage.interface if self.vantage else None
        return [each.ip for each in ((here,) if here else self.adapter.interfaces)]


async def ask(
    runner: Runner,
    rounds: Rounds,
    count: int | None,
    report: Callable[[Fact], None],
    stop: asyncio.Event | None = None,
) -> None:
    """Ask ``count`` rounds, or until ``stop`` is set; the pace is the runner's."""
    targets, vantage = rounds.targets, rounds.asked_from
    interval, wait = rounds.interval, rounds.wait
    addresses = [target for target in targets if isinstance(target, IPv4Address)]
    doors = [target for target in targets if isinstance(target, Endpoint)]
    with ExitStack() as stack:
        ends = []
        if addresses:
            opened = vantage.call(lambda: Echoes(vantage.adapter))
            echoes = stack.enter_context(runner.using(opened))
            asking = (count, interval, wait, rounds.own, rounds.sizes)
            ping = Ping(addresses, echoes.identifier, *asking)
            ends.append(runner.start(ping, echoes, report))
        if doors:
            medium = stack.enter_context(runner.using(Doors(vantage)))
            knocking = Knocking(doors, count, interval, wait)
            ends.append(runner.start(knocking, medium, _closing(medium, report)))
        over = asyncio.ensure_future(_all(ends))
        stopped = asyncio.ensure_future((stop or asyncio.Event()).wait())
        try:
            await asyncio.wait((over, stopped), return_when=asyncio.FIRST_COMPLETED)
            if over.done():
                over.result()
        finally:
            await end(over)
            await end(stopped)


async def ask_all(
    runner: Runner,
    parts: Sequence[Rounds],
    count: int | None,
    report: Callable[[Fact], None],
    stop: asyncio.Event | None = None,
) -> None:
    """The same from several places at once."""
    async with together() as tasks:
        for part in parts:
            if part.targets:
                tasks.create_task(ask(runner, part, count, report, stop))


async def _all(ends: Sequence[End]) -> None:
    for each in ends:
        await each.wait()


def _closing(medium: Doors, report: Callable[[Fact], None]) -> Callable[[Fact], None]:
    """Close each door as soon as it is known that it opens: old devices have few sockets."""

    def take(fact: Fact) -> None:
        door = fact.target
        assert isinstance(door, Endpoint)
        if isinstance(fact, Replied):
            medium.stream(door).close()
            medium.leave(door)
        elif fact.reason == SILENT:
            medium.give_up(door)
        report(fact)

    return take
