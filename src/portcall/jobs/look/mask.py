"""Reading from a device how its own interface is set."""

from __future__ import annotations

from functools import partial
from ipaddress import IPv4Address

from portcall.core.find import cip_interface
from portcall.core.find.sighting import Method, Sighting, mask_in
from portcall.core.wire import cip
from portcall.host.runner import Runner
from portcall.host.vantage import Vantage
from portcall.jobs.look.converse import Talk, converse


async def read_mask(adapter: str, address: IPv4Address) -> IPv4Address | None:
    """The mask that a device says it has; None when it does not say."""
    seen: list[Sighting] = []
    talk = Talk(Method.CIP, (partial(cip_interface.script, address),))
    doors = {address: (cip.PORT,)}
    await converse(Runner(), Vantage(adapter), doors, lambda door: talk, seen.append)
    return mask_in(said for each in seen for said in each.said)
