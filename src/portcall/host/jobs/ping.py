"""Pinging targets over one adapter."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from contextlib import closing
from ipaddress import IPv4Address

from portcall.core.adapters.adapter import Adapter
from portcall.core.reach.ping import Ping, Replied, Unanswered
from portcall.host.echoes import Echoes
from portcall.host.runner import Runner


async def ping(
    runner: Runner,
    adapter: Adapter,
    targets: Sequence[IPv4Address],
    count: int,
    interval: float,
    wait: float,
    report: Callable[[Replied | Unanswered], None],
) -> None:
    """Send ``count`` rounds of echo requests; ``interval`` and ``wait`` are seconds."""
    with closing(Echoes(adapter.name)) as echoes:
        try:
            own = [interface.ip for interface in adapter.interfaces]
            conversation = Ping(targets, echoes.identifier, count, interval, wait, own)
            await runner.run(conversation, echoes, report)
        finally:
            runner.drop(echoes)
