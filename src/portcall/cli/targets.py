"""Which device is meant, where it is now, and what it is to be told."""

from __future__ import annotations

import asyncio
from collections.abc import Sequence
from dataclasses import dataclass, replace
from ipaddress import IPv4Address

from portcall.cli.looking import gathering_for, look, orders_for
from portcall.cli.workplace import usual_ranges
from portcall.core.adapters.adapter import Adapter
from portcall.core.address import AddressError, AddressRange, Mac, parse_address, parse_mac
from portcall.core.find.device import Device
from portcall.core.find.sighting import Method
from portcall.core.plan.near import difference
from portcall.core.plan.rows import Plan, PlannedDevice
from portcall.core.printable import printable
from portcall.core.setting.job import Job
from portcall.core.setting.names import check_host_name, check_station_name
from portcall.core.trouble import BadInput
from portcall.host.jobs.holders import holders_of
from portcall.site.catalogs import read_catalogs
from portcall.site.folder import Site

LISTEN_SECONDS = 3.0
"""A device that asks for an address does so every few seconds."""

_LONG_ENOUGH = 2.0
"""Seconds after which a device that was heard needs no further look: the likely addresses are asked
first, and who else is there, or speaks DCP, has answered by then."""

_LOOK_ROUND = ": portcall find shows whether it asks, or where it is"

_LOCATING = (Method.LISTEN, Method.ARP, Method.DCP)


@dataclass(frozen=True, slots=True)
class Meant:
    """A device as it was typed: a planned row, a MAC, or where it is; what is not known is None."""

    words: str
    row: PlannedDevice | None = None
    mac: Mac | None = None
    address: IPv4Address | None = None

    @property
    def name(self) -> str:
        """What it goes by here."""
        return self.row.name if self.row else self.words


def parse_device(text: str, plan: Plan) -> Meant:
    """A planned name, a MAC, or an address. Raises BadInput."""
    row = plan.by_name(text)
    if row is not None:
        return Meant(text, row, row.mac)
    shown = printable(text, 60)
    digits = [c for c in text if c not in ":-. "]
    if len(digits) == 12 and all(c in "0123456789abcdefABCDEF" for c in digits):
        mac = parse_mac(text)
        return Meant(str(mac), plan.by_mac(mac), mac)
    if text[:1].isdigit():
        try:
            address = parse_address(text)
        except AddressError as error:
            raise BadInput(
                f"{error}; a device is named by its plan row, its MAC or address"
            ) from None
        row = plan.by_address(address)
        return Meant(str(address), row, None, address)
    names = ", ".join(row.name for row in plan) or "no rows"
    raise BadInput(f"{shown}: is no address, no MAC, and not in the plan, which has {names}")


@dataclass(frozen=True, slots=True)
class Located:
    """What a look found; ``reason`` says why there is no single device, when there is none."""

    meant: Meant
    device: Device | None
    reason: str = ""

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
    everywhere: bool = False,
) -> list[Located]:
    """Look where the devices are: at their own addresses, or everywhere a device may be."""
    catalog = read_catalogs(site.folder)
    own = {each.address or (each.row.address if each.row else None) for each in meant}
    ranges = [AddressRange(address, address) for address in own if address is not None]
    if everywhere or not ranges:
        ranges = [*ranges, *usual_ranges(adapter, site, plan, catalog)]
    gathering = gathering_for(site, plan, catalog)
    listen = LISTEN_SECONDS if everywhere else 0.0
    orders = orders_for(adapter, site, plan, catalog, methods=_LOCATING, listen=listen)
    orders = replace(orders, ranges=ranges, borrows=False)
    macs = {each.mac for each in meant}

    def enough(seconds: float) -> bool:
        if seconds < _LONG_ENOUGH or None in macs:
            return False
        heard = {d.mac for d in gathering.devices() if d.addresses or Method.DCP in d.methods}
        return macs <= heard

    asyncio.run(look(adapter, orders, gathering, enough)).to_its_end()
    devices = [device for device in gathering.devices() if device.mac is not None]
    return [_located(each, devices, everywhere) for each in meant]


def _located(meant: Meant, devices: Sequence[Device], everywhere: bool) -> Located:
    if meant.mac is not None:
        found = next((device for device in devices if device.mac == meant.mac), None)
        if found is not None:
            return Located(meant, found)
        near = next((d.mac for d in devices if d.mac and difference(d.mac, meant.mac)), None)
        hint = f"; {near} {difference(near, meant.mac)} it: check the label" if near else ""
        if everywhere or meant.row is None:
            return Located(meant, None, f"{meant.mac} was not heard on this wire{hint}")
        sentence = f"{meant.mac} does not answer at {meant.row.address}{hint or _LOOK_ROUND}"
        return Located(meant, None, sentence)
    address = meant.address or (meant.row.address if meant.row else None)
    there = [device for device in devices if address in device.addresses]
    if len(there) > 1:
        macs = " and ".join(str(device.mac) for device in there)
        return Located(meant, None, f"{address} is shared by {macs}: name one by its MAC")
    if not there:
        return Located(meant, None, f"nothing answers at {address}")
    row = meant.row
    if row is not None and row.mac is not None and row.mac != there[0].mac:
        sentence = f"{row.name} is planned with {row.mac}, and {there[0].mac} is at {address}"
        return Located(meant, None, sentence)
    return Located(meant, there[0])


def taken_by(adapter: Adapter, job: Job) -> str | None:
    """Who else has the address that a device is to have, in a sentence; None when nobody has."""
    others = sorted(asyncio.run(holders_of(adapter, job.interface.ip)) - {job.mac})
    return f"{job.interface.ip} is taken, {others[0]} has it" if others else None


def names_for(meant: Meant, typed: str | None) -> tuple[str | None, tuple[str, ...]]:
    """What a device is to call itself, and why not. Raises BadInput for a typed one that is none.

    It has to do for DCP and for CIP. What the plan calls a device may be no name for a device.
    """
    name = meant.row.name.lower() if typed is None and meant.row else typed
    if name is None:
        return None, ()
    try:
        check_station_name(name)
        check_host_name(name)
    except BadInput as trouble:
        if typed is not None:
            raise
        return None, (f"not named: {trouble}; give it one with --name",)
    return name, ()
