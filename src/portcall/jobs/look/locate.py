"""Finding the devices that are meant: where each is now, or why there is no single one."""

from __future__ import annotations

import asyncio
from collections.abc import Sequence
from dataclasses import dataclass, replace

from portcall.core.adapters.adapter import Adapter
from portcall.core.address import AddressRange, Mac
from portcall.core.find.device import Device
from portcall.core.find.sighting import Method
from portcall.core.finding import Finding, Line
from portcall.core.plan.inside import other_interfaces
from portcall.core.plan.near import difference
from portcall.core.plan.rows import Plan
from portcall.core.plan.targets import Meant
from portcall.core.setting import sentences as say
from portcall.jobs.look.looked import look
from portcall.jobs.look.orders import (
    NotSearched,
    gathering_for,
    orders_for,
    searchable,
    usual_ranges,
    with_places_of,
)
from portcall.jobs.telling import Tell
from portcall.site.folder import Site

LISTEN_SECONDS = 3.0
"""A device that asks for an address does so every few seconds."""

_LONG_ENOUGH = 2.0
"""Seconds after which a device that was heard needs no further look: the likely addresses are asked
first, and who else is there, or speaks DCP, has answered by then."""

_LOCATING = (Method.LISTEN, Method.ARP, Method.DCP)


@dataclass(frozen=True, slots=True)
class Located:
    """The device that a look found; ``reason`` says why there is no single one."""

    meant: Meant
    device: Device | None
    reason: Finding | None = None

    @property
    def rivals(self) -> tuple[Mac, ...]:
        """Other MACs that answer at its address. By DCP it is reached by its own MAC."""
        device = self.device
        return device.rivals if device is not None and Method.DCP not in device.methods else ()

    @property
    def why_not(self) -> Finding:
        """Why there is no single device; only where there is none."""
        assert self.reason is not None
        return self.reason

    @property
    def mac(self) -> Mac:
        """The device's MAC; only where it was found."""
        mac = self.device.mac if self.device else None
        assert mac is not None
        return mac


def locate(
    adapter: Adapter,
    site: Site,
    plan: Plan,
    meant: Sequence[Meant],
    tell: Tell,
    everywhere: bool = False,
) -> list[Located]:
    """Look where the devices are: at their own addresses, or everywhere a device may be."""
    gathering = gathering_for(site, plan)
    own = {each.address or (each.row.address if each.row else None) for each in meant}
    ranges = [AddressRange(address, address) for address in own if address is not None]
    if everywhere or not ranges:
        usual = usual_ranges(adapter, site, plan, gathering.catalog)
        near, large = searchable(usual, (row.address for row in plan))
        ranges = [*ranges, *near]
        if large:
            tell(NotSearched(large))
    listen = LISTEN_SECONDS if everywhere else 0.0
    orders = orders_for(adapter, site, gathering, methods=_LOCATING, listen=listen)
    orders = replace(orders, ranges=ranges, borrows=False)
    macs = {each.mac for each in meant}
    if everywhere:
        orders = with_places_of(orders, site, gathering, macs)

    # A device may answer at each plug for all of its interfaces: wait for the one that is meant.
    beside = {each.mac: other_interfaces(each.row.name, plan) for each in meant if each.row}

    def enough(seconds: float) -> bool:
        if seconds < _LONG_ENOUGH or None in macs:
            return False
        heard = {
            device.mac
            for device in gathering.devices()
            if Method.DCP in device.methods
            or set(device.addresses) - beside.get(device.mac, frozenset())
        }
        return macs <= heard

    asyncio.run(look(adapter, orders, gathering, enough=enough, tell=tell)).to_its_end()
    devices = [device for device in gathering.devices() if device.mac is not None]
    return [_located(each, devices, plan, everywhere) for each in meant]


def _located(meant: Meant, devices: Sequence[Device], plan: Plan, everywhere: bool) -> Located:
    if meant.mac is not None:
        found = next((device for device in devices if device.mac == meant.mac), None)
        if found is not None:
            return Located(meant, found)
        others = [d.mac for d in devices if d.mac and plan.by_mac(d.mac) is None]
        near = next((mac for mac in others if difference(mac, meant.mac)), None)
        hint = say.NEARLY(near_mac=near, how=difference(near, meant.mac)) if near else None
        if everywhere or meant.row is None:
            return Located(meant, None, say.NOT_HEARD(mac=meant.mac, near=hint))
        line = Line("why", meant.row.name) if hint is None else None
        silent = say.NOT_THERE(line, mac=meant.mac, address=meant.row.address, near=hint)
        return Located(meant, None, silent)
    address = meant.address or (meant.row.address if meant.row else None)
    there = [device for device in devices if address in device.addresses]
    if len(there) > 1:
        shared = say.SHARED_BY(address=address, macs=[device.mac for device in there])
        return Located(meant, None, shared)
    if not there:
        return Located(meant, None, say.NOBODY_AT(address=address))
    row = meant.row
    if row is not None and row.mac is not None and row.mac != there[0].mac:
        other = say.PLANNED_OTHERWISE(
            name=row.name, planned=row.mac, mac=there[0].mac, address=address
        )
        return Located(meant, None, other)
    return Located(meant, there[0])
