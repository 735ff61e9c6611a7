"""Pinging targets over one adapter."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from ipaddress import IPv4Address

from portcall.core.adapters.adapter import Adapter
from portcall.core.reach.ping import Ping, Replied, Unanswered
from portcall.core.reach.statistics import Reachability, summarise
from portcall.core.trouble import NotPossibleHere
from portcall.host.echoes import Echoes
from portcall.host.runner import Runner, paced


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
    with runner.using(Echoes(adapter.name)) as echoes:
        own = [interface.ip for interface in adapter.interfaces]
        conversation = Ping(targets, echoes.identifier, count, interval, wait, own)
        await runner.run(conversation, echoes, report)


async def reach(
    adapter: Adapter,
    pace: float,
    targets: Sequence[IPv4Address],
    count: int,
    interval: float,
    wait: float,
) -> tuple[Reachability, ...]:
    """Ping targets at a pace, in packets a second; what came back. Raises NotPossibleHere."""
    if not adapter.addresses:
        raise NotPossibleHere(
            f"{adapter.name} has no address to ping from; "
            f"put it into the subnet first: portcall match {targets[0]}"
        )
    facts: list[Replied | Unanswered] = []
    with paced(adapter.name, pace) as runner:
        await ping(runner, adapter, targets, count, interval, wait, facts.append)
    return summarise(targets, facts)
