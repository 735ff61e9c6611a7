"""Who has an address now."""

from __future__ import annotations

import asyncio
from ipaddress import IPv4Address

from portcall.core.adapters.adapter import Adapter
from portcall.core.address import AddressRange, Mac
from portcall.core.find.arp_sweep import ArpSweep
from portcall.core.find.sighting import Sighting
from portcall.core.setting.job import Job
from portcall.core.talk.pacer import Pacer
from portcall.host.link import Link
from portcall.host.runner import Runner


async def holders_of(adapter: Adapter, address: IPv4Address) -> set[Mac]:
    """The MACs that answer for an address, within a second. Raises NotPossibleHere."""
    assert adapter.mac is not None
    found: set[Mac] = set()

    def report(seen: Sighting) -> None:
        if seen.address == address and seen.mac is not None:
            found.add(seen.mac)

    runner = Runner(Pacer())
    sweep = ArpSweep(adapter.mac, adapter.interfaces, (AddressRange(address, address),))
    with runner.using(Link(adapter.name)) as link:
        await runner.run(sweep, link, report)
    return found


def taken_by(adapter: Adapter, job: Job) -> str | None:
    """Who else has the address that a device is to have, in a sentence; None when nobody has."""
    others = sorted(asyncio.run(holders_of(adapter, job.interface.ip)) - {job.mac})
    return f"{job.interface.ip} is taken, {others[0]} has it" if others else None
