"""Asking devices who they are over TCP: proof that programs get through to them."""

from __future__ import annotations

import asyncio
from collections.abc import Sequence
from contextlib import closing
from ipaddress import IPv4Address

from portcall.core.conversation import Endpoint
from portcall.core.find.cip_identity import IdentityByStream
from portcall.core.find.sighting import Sighting
from portcall.core.pacer import Pacer
from portcall.core.wire import cip
from portcall.host.runner import Runner
from portcall.host.streams import Stream

CONNECT_WAIT = 1.5
"""Seconds; a first SYN that is lost is repeated by the kernel after one."""

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
            try:
                stream = await Stream.connect(adapter, Endpoint(address, cip.PORT), CONNECT_WAIT)
            except (OSError, TimeoutError):
                return
            with closing(stream):
                try:
                    await runner.run(IdentityByStream(address), stream, sightings.append)
                finally:
                    runner.drop(stream)

    await asyncio.gather(*(ask(address) for address in addresses))
    return tuple(sightings)
