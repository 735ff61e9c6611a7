"""Being a DHCP client on one adapter: what is offered, and taking it."""

from __future__ import annotations

import asyncio
import secrets
from collections.abc import Collection
from contextlib import closing, suppress
from ipaddress import IPv4Address

from portcall.core.adapters.adapter import Adapter
from portcall.core.assign.client import DhcpClient, Lost, Obtained, decline, release
from portcall.core.assign.lookout import Lookout, Offer
from portcall.core.talk.conversation import Frame
from portcall.core.talk.pacer import Pacer
from portcall.host.address_link import AddressLink
from portcall.host.runner import Runner
from portcall.site.matches import Lease

_TAKE_WAIT = 8.0
"""Seconds for a server that has just made an offer to stand by it, and one lost frame."""


async def offers(
    adapter: Adapter,
    xid: int,
    serving: Collection[IPv4Address] | None = None,
    patience: float | None = None,
) -> tuple[Offer, ...]:
    """The offers of DHCP servers on this wire to this workstation; none is taken.

    With ``serving``, also servers that were overheard; with ``patience``, those that come within so
    many seconds. Raises NotPossibleHere.
    """
    assert adapter.mac is not None
    found: list[Offer] = []
    runner = Runner(Pacer())
    with runner.using(AddressLink(adapter.name)) as link, suppress(TimeoutError):
        async with asyncio.timeout(patience):
            await runner.run(Lookout(adapter.mac, xid, serving=serving), link, found.append)
    return tuple(found)


def give_back(adapter: Adapter, own: IPv4Address, lease: Lease) -> None:
    """Tell a server that its address is not used any longer. Raises NotPossibleHere, OSError."""
    assert adapter.mac is not None
    xid = secrets.randbits(32)
    _say(adapter, release(adapter.mac, xid, own, lease.server, lease.server_mac))


def refuse(adapter: Adapter, address: IPv4Address, server: IPv4Address) -> None:
    """Tell a server that somebody has the address it gave. Raises NotPossibleHere, OSError."""
    assert adapter.mac is not None
    _say(adapter, decline(adapter.mac, secrets.randbits(32), address, server))


def _say(adapter: Adapter, frame: Frame) -> None:
    with closing(AddressLink(adapter.name)) as link:
        link.send(frame)


async def take(adapter: Adapter, offer: Offer, xid: int) -> Obtained | None:
    """Ask the server for what it offered; None when it does not acknowledge in time."""
    assert adapter.mac is not None
    runner = Runner(Pacer())
    told: asyncio.Future[Obtained] = asyncio.get_running_loop().create_future()

    def report(fact: Obtained | Lost) -> None:
        if isinstance(fact, Obtained) and not told.done():
            told.set_result(fact)

    with runner.using(AddressLink(adapter.name)) as link:
        runner.start(DhcpClient(adapter.mac, xid, only_server=offer.server), link, report)
        with suppress(TimeoutError):
            async with asyncio.timeout(_TAKE_WAIT):
                return await told
    return None
