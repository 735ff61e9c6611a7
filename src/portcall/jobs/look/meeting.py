"""Meeting one device: which it is and where, and what it says of itself from near by."""

from __future__ import annotations

import asyncio
from dataclasses import dataclass, replace
from ipaddress import IPv4Address

from portcall.core.adapters.adapter import Adapter
from portcall.core.address import AddressRange, Mac
from portcall.core.find.device import Device
from portcall.core.finding import Line, Name
from portcall.core.plan.rows import Plan
from portcall.core.plan.targets import Meant
from portcall.core.setting import sentences as say
from portcall.core.trouble import NotPossibleHere
from portcall.jobs.look.holders import holders_of
from portcall.jobs.look.locate import locate
from portcall.jobs.look.looked import look
from portcall.jobs.look.orders import gathering_for, orders_for
from portcall.jobs.telling import Tell
from portcall.site.folder import Site

_LISTEN = 1.0


@dataclass(frozen=True, slots=True)
class Met:
    """A device that is to be visited: where it is, or where it should be when it does not answer.

    ``mac`` is None where nobody answered, and nobody wrote it down.
    """

    name: Name
    address: IPv4Address
    mac: Mac | None
    answers: bool
    whoever: bool = False
    """Whether whoever is at the address is meant, and not one device."""
    several: tuple[Mac, ...] = ()
    """All who answer at its address, where that is more than one."""


@dataclass(frozen=True, slots=True)
class NoAddress:
    """The device is on the wire, and has no address yet."""

    name: Name

    def __str__(self) -> str:
        return f"{self.name} has no address yet: {Line('move', self.name)}"


def meet(adapter: Adapter, site: Site, plan: Plan, meant: Meant, tell: Tell) -> Met:
    """Where a device is: at its address, or else wherever it may be.

    Raises NotPossibleHere where that is nowhere that can be gone to.
    """
    row = meant.row
    address = meant.address or (row.address if row else None)
    # Who types an address means whoever is there; who types a name, that device.
    mac = meant.mac or (row.mac if row and meant.address is None else None)
    if address is not None:
        there = sorted(asyncio.run(holders_of(adapter, address)))
        if there and (mac is None or mac in there):
            several = tuple(there) if len(there) > 1 else ()
            return Met(meant.name, address, mac or there[0], True, mac is None, several)
    if mac is None:
        assert address is not None
        return Met(meant.name, address, row.mac if row else None, False, True)
    (found,) = locate(adapter, site, plan, [replace(meant, mac=mac)], tell, everywhere=True)
    if found.device is not None and found.device.addresses:
        return Met(meant.name, found.device.addresses[0], mac, True)
    if found.device is not None and found.device.asks:
        line = Line("assign", meant.name, "--keep")
        asks = say.ASKS_BY(line, protocol=found.device.asks[0].protocol)
        raise NotPossibleHere(f"{meant.name}: {asks.sentence}", line)
    if found.device is not None:
        tell(NoAddress(meant.name))
    if address is None:
        raise NotPossibleHere(f"{meant.name}: {found.why_not if found.reason else 'no address'}")
    return Met(meant.name, address, mac, False)


def seen_from_near(adapter: Adapter, site: Site, plan: Plan, met: Met, tell: Tell) -> Device | None:
    """All that a device says of itself to who stands in its subnet; None when it is silent."""
    gathering = gathering_for(site, plan)
    span = AddressRange(met.address, met.address)
    orders = orders_for(adapter, site, gathering, [span], listen=_LISTEN)
    orders = replace(orders, borrows=False)
    asyncio.run(look(adapter, orders, gathering, tell=tell))
    there = [each for each in gathering.devices() if met.address in each.addresses]
    return next((each for each in there if each.mac == met.mac), there[0] if there else None)
