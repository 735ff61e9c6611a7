"""Following the way to a target, hop by hop."""

from __future__ import annotations

import secrets
from ipaddress import IPv4Address

from portcall.core.adapters.adapter import Adapter
from portcall.core.reach.trace import Hop, Trace
from portcall.core.talk.pacer import Pace
from portcall.host.hops import DoorHops, EchoHops
from portcall.host.runner import paced

_MOST_SEQUENCES = 0xF000


async def trace(adapter: Adapter, pace: Pace, address: IPv4Address, port: int | None) -> list[Hop]:
    """The hops to an address, by echoes or by attempts at a port. Raises NotPossibleHere."""
    medium = (
        EchoHops(adapter.name, address) if port is None else DoorHops(adapter.name, address, port)
    )
    # Another program's echoes may have low numbers, too.
    conversation = Trace(first=1 + secrets.randbelow(_MOST_SEQUENCES))
    path: list[Hop] = []
    with paced(adapter.name, pace) as runner, runner.using(medium):
        await runner.run(conversation, medium, path.append)
    return path
