"""Whether echoes come back at all: two of them, for who has to know no more."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import suppress
from ipaddress import IPv4Address

from portcall.core.reach.echo_facts import Fact, Replied, address_of
from portcall.core.reach.ping import Ping
from portcall.host.echoes import Echoes
from portcall.host.medium import NoPings
from portcall.host.runner import Runner

_ECHOES, _EVERY, _WAIT = 2, 0.3, 1.0


async def echoed(
    runner: Runner, adapter: str, addresses: Sequence[IPv4Address]
) -> dict[IPv4Address, Replied]:
    """The answers to an echo by an adapter; none where pings are not allowed."""
    came: dict[IPv4Address, Replied] = {}

    def take(fact: Fact) -> None:
        if isinstance(fact, Replied):
            came[address_of(fact.target)] = fact

    with suppress(NoPings), runner.using(Echoes(adapter)) as echoes:
        await runner.run(Ping(addresses, echoes.identifier, _ECHOES, _EVERY, _WAIT), echoes, take)
    return came


async def answers_by(runner: Runner, adapter: str, address: IPv4Address) -> bool:
    """Whether an echo comes back by an adapter."""
    return address in await echoed(runner, adapter, [address])
