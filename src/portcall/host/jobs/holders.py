"""Who has an address now."""

from __future__ import annotations

from contextlib import closing
from ipaddress import IPv4Address

from portcall.core.adapters.adapter import Adapter
from portcall.core.address import AddressRange, Mac
from portcall.core.find.arp_sweep import ArpSweep
from portcall.core.find.sighting import Sighting
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
    with closing(Link(adapter.name)) as link:
        try:
            await runner.run(sweep, link, report)
        finally:
            runner.drop(link)
    return found
