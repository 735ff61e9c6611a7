"""Asking devices who they are over TCP: proof that programs get through to them."""

from __future__ import annotations

import asyncio
from collections.abc import Sequence
from ipaddress import IPv4Address

from portcall.core.find import cip_identity
from portcall.core.find.sighting import Method, Sighting
from portcall.core.pacer import Pacer
from portcall.core.wire import cip
from portcall.host.jobs.converse import Door, converse
from portcall.host.runner import Runner
from portcall.host.vantage import Vantage

_AT_ONCE = 16


async def identify(
    adapter: str, addresses: Sequence[IPv4Address], pace: float
) -> tuple[Sighting, ...]:
    """What each device says of itself by CIP; silent for those that speak none."""
    runner = Runner(Pacer(pace))
    turns = asyncio.Semaphore(_AT_ONCE)
    sightings: list[Sighting] = []

    async def ask(address: IPv4Address) -> None:
        async with turns:
            door = Door(address, cip.PORT, Method.CIP, (cip_identity.script,))
            await converse(runner, Vantage(adapter), door, sightings.append)

    await asyncio.gather(*(ask(address) for address in addresses))
    return tuple(sightings)
