"""Following the way to a target, hop by hop."""

from __future__ import annotations

import secrets
from contextlib import ExitStack
from ipaddress import IPv4Address

from portcall.core.adapters.adapter import Adapter
from portcall.core.plan.rows import Plan
from portcall.core.reach.trace import Hop, Trace
from portcall.host.hops import DoorHops, EchoHops
from portcall.host.pace import paced
from portcall.host.vantage import Vantage
from portcall.jobs.reach.asking import Rounds
from portcall.jobs.reach.standing import (
    Borrowed,
    borrowed_beside,
    is_elsewhere,
    met,
    standing_in,
)
from portcall.jobs.telling import Tell
from portcall.site.folder import Site

_MOST_SEQUENCES = 0xF000


async def trace(
    adapter: Adapter, site: Site, plan: Plan, address: IPv4Address, port: int | None, tell: Tell
) -> list[Hop]:
    """The hops to an address, by echoes or by attempts at a port. Raises NotPossibleHere.

    From an address that is borrowed, where this computer is not in its subnet and has no route.
    """
    # Another program's echoes may have low numbers, too.
    conversation = Trace(first=1 + secrets.randbelow(_MOST_SEQUENCES))
    path: list[Hop] = []
    with paced(adapter.name, site.pace) as runner, ExitStack() as stack:
        vantage = Vantage(adapter.name)
        if is_elsewhere(adapter, address) and not adapter.any_route_to(address):
            own = await borrowed_beside(runner, adapter, address, site, plan)
            vantage = stack.enter_context(standing_in(own, runner, adapter))
            tell(Borrowed(own))
            await met(runner, [Rounds(adapter, [address], site.pace, vantage=vantage)])
        medium = EchoHops(vantage, address) if port is None else DoorHops(vantage, address, port)
        with runner.using(medium):
            await runner.run(conversation, medium, path.append)
    return path
