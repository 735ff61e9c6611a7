"""Being a DHCP client on one adapter: what is offered, and taking it."""

from __future__ import annotations

import asyncio
from contextlib import suppress

from portcall.core.adapters.adapter import Adapter
from portcall.core.assign.client import DhcpClient, Lost, Obtained
from portcall.core.assign.lookout import Lookout, Offer
from portcall.core.talk.pacer import Pacer
from portcall.host.link import Link
from portcall.host.runner import Runner

_TAKE_WAIT = 8.0
"""Seconds for a server that has just made an offer to stand by it, and one lost frame."""


async def offers(adapter: Adapter, xid: int) -> tuple[Offer, ...]:
    """What the DHCP servers on this wire offer this workstation; none of it is taken."""
    assert adapter.mac is not None
    found: list[Offer] = []
    runner = Runner(Pacer())
    with runner.using(Link(adapter.name)) as link:
        await runner.run(Lookout(adapter.mac, xid), link, found.append)
    return tuple(found)


async def take(adapter: Adapter, offer: Offer, xid: int) -> Obtained | None:
    """Ask the server for what it offered; None when it does not acknowledge in time."""
    assert adapter.mac is not None
    runner = Runner(Pacer())
    told: asyncio.Future[Obtained] = asyncio.get_running_loop().create_future()

    def report(fact: Obtained | Lost) -> None:
        if isinstance(fact, Obtained) and not told.done():
            told.set_result(fact)

    with runner.using(Link(adapter.name)) as link:
        runner.start(DhcpClient(adapter.mac, xid, only_server=offer.server), link, report)
        with suppress(TimeoutError):
            async with asyncio.timeout(_TAKE_WAIT):
                return await told
    return None
