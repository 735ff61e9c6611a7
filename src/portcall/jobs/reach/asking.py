"""Sending echoes and trying doors, of any number of targets, over one adapter."""

from __future__ import annotations

import asyncio
from collections.abc import Callable, Sequence
from contextlib import ExitStack
from ipaddress import IPv4Address

from portcall.core.adapters.adapter import Adapter
from portcall.core.reach.echo_facts import Fact, Replied, Target
from portcall.core.reach.knocking import SILENT, Knocking
from portcall.core.reach.ping import OCTETS, Ping
from portcall.core.talk.conversation import Endpoint
from portcall.host.doors import Doors
from portcall.host.echoes import Echoes
from portcall.host.runner import End, Runner
from portcall.host.vantage import Vantage
from portcall.jobs.together import end


async def ask(
    runner: Runner,
    adapter: Adapter,
    targets: Sequence[Target],
    count: int | None,
    interval: float,
    wait: float,
    report: Callable[[Fact], None],
    sizes: Sequence[int] = (OCTETS,),
    stop: asyncio.Event | None = None,
) -> None:
    """Ask ``count`` rounds, or until ``stop`` is set; ``interval`` and ``wait`` are seconds."""
    addresses = [target for target in targets if isinstance(target, IPv4Address)]
    doors = [target for target in targets if isinstance(target, Endpoint)]
    with ExitStack() as stack:
        ends = []
        if addresses:
            echoes = stack.enter_context(runner.using(Echoes(adapter.name)))
            own = [interface.ip for interface in adapter.interfaces]
            ping = Ping(addresses, echoes.identifier, count, interval, wait, own, sizes)
            ends.append(runner.start(ping, echoes, report))
        if doors:
            medium = stack.enter_context(runner.using(Doors(Vantage(adapter.name))))
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
