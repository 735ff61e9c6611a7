"""Faults that can be made in a running practice plant, and mended: ``portcall help faults``.

Most are called as the cause that ``why`` names. Each is made on a device, on one of the
workstation's adapters, or on the ``workstation``, which is its adapter on the plant's wire.
"""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable
from contextlib import suppress
from functools import partial
from ipaddress import IPv4Address, IPv4Interface, IPv4Network
from pathlib import Path

from pyroute2.netlink.exceptions import NetlinkError

from portcall.core.adapters.adapter import Adapter
from portcall.core.address import (
    AddressError,
    Mac,
    parse_address,
    parse_interface,
    parse_mac,
    parse_subnet,
)
from portcall.core.finding import Line, Name
from portcall.core.part_path import TOP, PartKind, PartPath
from portcall.core.trouble import BadInput
from portcall.host.adapters import read_adapters
from portcall.host.linux import addresses, cables, neighbours, packet_filter
from portcall.host.linux.packet_filter import Filtered, Way
from portcall.plant.control import Fault
from portcall.plant.device import SimulatedDevice
from portcall.plant.rough_cable import Roughness
from portcall.plant.scenario import Asks
from portcall.plant.wiring import Wiring

WORKSTATION = "workstation"
TUNNEL = "tunnel0"

_ODD_SUBNET = IPv4Interface("192.0.2.77/24")
_TUNNEL_ADDRESS = IPv4Interface("192.0.2.9/32")
_NARROW_PREFIX = 28
_NOBODYS_MAC = Mac(bytes((0x02, 0x60, 0xD1, 0x00, 0x1D, 0xFF)))
_LINK_OUT, _LINK_IN = 0.3, 0.7
"""Seconds that a flapping link is out, and in."""

_LARGEST_PASSED = 1000

Undo = Callable[[], Awaitable[None]]


class Faults:
    """The faults of a plant, and their mending."""

    def __init__(self, wiring: Wiring) -> None:
        self._wiring = wiring
        self._made: dict[Fault, Undo] = {}
        self._intruders = 0
        self._filters = 0

    @property
    def made(self) -> tuple[Fault, ...]:
        """The faults in force, the oldest first."""
        return tuple(self._made)

    async def make(self, on: str, kind: str, how: str) -> None:
        """Break something. Raises BadInput, NotPossibleHere."""
        fault = Fault(on, kind, how)
        if fault in self._made:
            raise BadInput(f"{fault}: is made already; mend it first", Line("plant mend", Name(on)))
        try:
            if on in self._wiring.devices:
                made = ON_DEVICES.get(kind)
                if made is None:
                    raise BadInput(f"{kind}: is no fault of a device: {', '.join(ON_DEVICES)}")
                self._made[fault] = await made(self, self._wiring.devices[on], how)
            else:
                adapter = self._adapter(on)
                made_here = ON_WORKSTATION.get(kind)
                if made_here is None:
                    known = ", ".join(ON_WORKSTATION)
                    raise BadInput(f"{kind}: is no fault of the workstation: {known}")
                self._made[fault] = await made_here(self, adapter, how)
        except AddressError as error:
            raise BadInput(f"{kind}: {error}") from None
        except (OSError, NetlinkError) as error:
            raise BadInput(f"{fault}: cannot be made here: {error}") from None

    async def mend(self, on: str | None, kind: str | None) -> list[Fault]:
        """Put right all there is, or all of one device, or one fault; the newest first."""
        chosen = [
            fault
            for fault in reversed(self._made)
            if on in (None, fault.on) and kind in (None, fault.kind)
        ]
        for fault in chosen:
            await self._made.pop(fault)()
        return chosen

    def _adapter(self, name: str) -> Adapter:
        if name == WORKSTATION:
            name = self._wiring.plant_adapter
        found = self._wiring.workstation.call(read_adapters)
        for adapter in found:
            if adapter.name == name and name in self._wiring.adapters:
                return adapter
        raise self._wiring.unknown(name)

    # On the cable of a device or of an adapter.

    async def unplug(self, name: str) -> Undo:
        """Pull a cable."""
        self._wiring.set_plug(name, plugged=False)
        return _later(partial(self._wiring.set_plug, name, plugged=True))

    async def flap(self, name: str) -> Undo:
        """Lose the link again and again."""

        async def forever() -> None:
            while True:
                self._wiring.set_plug(name, plugged=False)
                await asyncio.sleep(_LINK_OUT)
                self._wiring.set_plug(name, plugged=True)
                await asyncio.sleep(_LINK_IN)

        task = asyncio.ensure_future(forever())

        async def undo() -> None:
            task.cancel()
            with suppress(asyncio.CancelledError):
                await task
            self._wiring.set_plug(name, plugged=True)

        return undo

    async def roughen(self, name: str, roughness: Roughness) -> Undo:
        """Put a cable in that loses, delays or lets no large frames through."""
        return _later(self._wiring.roughen(name, roughness))

    # Somebody else on the wire.

    async def intrude(self, wire_of: str, interface: IPv4Interface, mac: Mac | None) -> Undo:
        """Plug in a device that nobody planned, on the wire that somebody is on."""
        self._intruders += 1
        made = mac or Mac(bytes((0x02, 0x60, 0xD1, 0x00, 0x1D, self._intruders)))
        return _later(self._wiring.intrude(wire_of, made, interface))

    # Filters, on the workstation and on devices.

    async def filter_packets(
        self, call: Callable[[Callable[[], None]], None], filtered: Filtered
    ) -> Undo:
        """Have packets dropped where ``call`` runs."""
        self._filters += 1
        name = f"fault{self._filters}"
        call(partial(packet_filter.add_filter, name, filtered))
        return _later(partial(call, partial(packet_filter.remove_filter, name)))

    async def filter_workstation(self, filtered: Filtered) -> Undo:
        """Have packets dropped on the workstation."""
        return await self.filter_packets(self._wiring.workstation.call, filtered)

    # On the workstation.

    async def change_addresses(self, adapter: Adapter, change: Callable[[], None]) -> Undo:
        """Change an adapter's addresses or routes so that they come back as they were."""
        here = self._wiring.workstation
        saved = here.call(partial(addresses.save, adapter))
        here.call(change)

        def undo() -> None:
            now = {own.name: own for own in read_adapters()}[adapter.name]
            for own in now.interfaces:
                if own not in adapter.interfaces:
                    addresses.remove_address(now, own)
            addresses.put_back(now, saved, 0.0)

        return _later(partial(here.call, undo))

    async def lead_elsewhere(self, adapter: Adapter, how: str) -> Undo:
        """Have a tunnel carry what is meant for an address, or for the adapter's subnets.

        Where an ordinary user may not make one, another adapter of the workstation carries it.
        """
        goals = [_network(how)] if how else _halves(adapter)
        here = self._wiring.workstation
        try:
            tunnel = here.call(partial(cables.Tunnel, TUNNEL, _TUNNEL_ADDRESS, goals))
        except OSError:
            others = [name for name in self._wiring.adapters if name != adapter.name]
            if not others:
                raise
            here.call(partial(cables.lead_by, others[0], goals))
            return _later(partial(here.call, partial(cables.lead_by, others[0], goals, False)))
        return _later(tunnel.close)

    async def fix_neighbour(self, adapter: str, address: IPv4Address, mac: Mac) -> Undo:
        """Have the workstation's own ARP table name a MAC for an address, for good."""
        here = self._wiring.workstation
        here.call(partial(neighbours.fix_neighbour, adapter, address, mac))
        return _later(partial(here.call, partial(neighbours.forget_neighbour, adapter, address)))

    async def come_back_otherwise(self, router: SimulatedDevice) -> Undo:
        """Have a router send what is for the workstation by way of its other adapter."""
        wiring = self._wiring
        adapters = {each.name: each for each in wiring.workstation.call(read_adapters)}
        own = adapters[wiring.plant_adapter].interfaces
        others = [each for each in wiring.adapters if each != wiring.plant_adapter]
        beside = [(name, i) for name in others for i in adapters[name].interfaces]
        if not own or not beside:
            raise BadInput("it takes a workstation with an address on the plant, and another one")
        name, there = beside[0]
        leg = IPv4Interface((there.network.broadcast_address - 5, there.network.prefixlen))
        self._intruders += 1
        mac = Mac(bytes((0x02, 0xD0, 0x11, 0x3E, 0x1D, self._intruders)))
        away = wiring.add_leg(router, name, mac, leg, own[0].ip, there.ip)
        before = wiring.workstation.call(partial(_set_filter_of_sources, name, "1"))

        def undo() -> None:
            away()
            wiring.workstation.call(partial(_set_filter_of_sources, name, before))

        return _later(undo)


def _later(function: Callable[[], object]) -> Undo:
    async def undo() -> None:
        function()

    return undo


# What is typed behind a fault.


def _share(how: str) -> float:
    try:
        share = float(how.rstrip("%")) / 100
    except ValueError:
        share = -1.0
    if not 0 < share < 1:
        raise BadInput(f"{how or 'nothing'}: is no share to lose", "write 20%")
    return share


def _network(how: str) -> IPv4Network:
    return parse_subnet(how) if "/" in how else IPv4Network(parse_address(how))


def _number(how: str, what: str, most: int) -> int:
    if not (how.isascii() and how.isdigit() and 0 < int(how) <= most):
        raise BadInput(f"{how or 'nothing'}: is no {what}, 1 to {most}")
    return int(how)


def _held(device: SimulatedDevice) -> IPv4Interface:
    if device.interface is None:
        raise BadInput(f"{device.entry.name} has no address that could be at fault")
    return device.interface


# Faults of devices.


async def _no_power(faults: Faults, device: SimulatedDevice, how: str) -> Undo:
    await device.power_down()
    return device.power_up


async def _moved(faults: Faults, device: SimulatedDevice, how: str) -> Undo:
    held = _held(device)
    goal = parse_interface(how) if how else IPv4Interface("203.0.113.46/24")
    gateway = device.memory.gateway
    await device.readdress(goal, None)
    return partial(device.readdress, held, gateway)


async def _mask(faults: Faults, device: SimulatedDevice, how: str) -> Undo:
    held = _held(device)
    mask = parse_interface(f"{held.ip}/{how or _NARROW_PREFIX}")
    gateway = device.memory.gateway
    await device.readdress(mask, None)
    return partial(device.readdress, held, gateway)


async def _asking(faults: Faults, device: SimulatedDevice, how: str) -> Undo:
    asks = Asks(how) if how in set(Asks) else Asks.BOOTP
    return await _restarted(device, asks)


async def _unset(faults: Faults, device: SimulatedDevice, how: str) -> Undo:
    return await _restarted(device, None)


async def _restarted(device: SimulatedDevice, asks: Asks | None) -> Undo:
    """Without an address, as it comes from the maker."""
    memory = device.memory
    before = memory.stored, memory.stored_gateway, memory.asks
    held, gateway = device.interface, memory.gateway

    async def start(
        stored: IPv4Interface | None, router: IPv4Address | None, asks: Asks | None
    ) -> None:
        await device.power_down()
        memory.stored, memory.stored_gateway, memory.asks = stored, router, asks
        await device.power_up()

    async def undo() -> None:
        await start(*before)
        if device.interface is None and held is not None:
            # It had been given its address, and would have to be given it again.
            await device.readdress(held, gateway, lasting=False)

    await start(None, None, asks)
    return undo


async def _wrong_device(faults: Faults, device: SimulatedDevice, how: str) -> Undo:
    held = _held(device)
    back = await faults.unplug(device.entry.name)
    mac = parse_mac(how) if how else None
    gone = await faults.intrude(device.entry.name, held, mac)

    async def undo() -> None:
        await gone()
        await back()

    return undo


async def _address_shared(faults: Faults, device: SimulatedDevice, how: str) -> Undo:
    mac = parse_mac(how) if how else None
    return await faults.intrude(device.entry.name, _held(device), mac)


async def _ping_ignored(faults: Faults, device: SimulatedDevice, how: str) -> Undo:
    def ignore(value: str) -> None:
        Path("/proc/sys/net/ipv4/icmp_echo_ignore_all").write_text(value)

    device.namespace.call(partial(ignore, "1"))
    return _later(partial(device.namespace.call, partial(ignore, "0")))


async def _door_closed(faults: Faults, device: SimulatedDevice, how: str) -> Undo:
    port = _number(how, "port", 65535)
    refused = Filtered(Way.IN, port=port, refuse=True)
    return await faults.filter_packets(device.namespace.call, refused)


async def _door_silent(faults: Faults, device: SimulatedDevice, how: str) -> Undo:
    port = _number(how, "port", 65535)
    return await faults.filter_packets(device.namespace.call, Filtered(Way.IN, port=port))


async def _speaks_otherwise(faults: Faults, device: SimulatedDevice, how: str) -> Undo:
    port = _number(how, "port", 65535)
    await device.speak_otherwise(port)
    return partial(device.speak_again, port)


async def _lossy(faults: Faults, device: SimulatedDevice, how: str) -> Undo:
    return await faults.roughen(device.entry.name, Roughness(loss=_share(how or "20%")))


async def _slow(faults: Faults, device: SimulatedDevice, how: str) -> Undo:
    delay = _number(how or "40", "time in milliseconds", 5000) / 1000
    return await faults.roughen(device.entry.name, Roughness(delay=delay))


async def _large_lost(faults: Faults, device: SimulatedDevice, how: str) -> Undo:
    longest = _number(how or str(_LARGEST_PASSED), "length in octets", 1500)
    return await faults.roughen(device.entry.name, Roughness(longest=longest))


async def _stops_at_hop(faults: Faults, device: SimulatedDevice, how: str) -> Undo:
    if not device.entry.legs:
        raise BadInput(f"{device.entry.name} forwards nothing")
    device.set_legs(up=False)
    return _later(partial(device.set_legs, up=True))


async def _return_filtered(faults: Faults, device: SimulatedDevice, how: str) -> Undo:
    if not device.entry.legs:
        raise BadInput(f"{device.entry.name} forwards nothing")
    return await faults.come_back_otherwise(device)


async def _unit_silent(faults: Faults, device: SimulatedDevice, how: str) -> Undo:
    return await _without(device, TOP.below(PartKind.UNIT, _number(how, "unit", 247)))


async def _line_silent(faults: Faults, device: SimulatedDevice, how: str) -> Undo:
    units = {part.path for part in device.entry.parts if part.path.kind is PartKind.UNIT}
    if not units:
        raise BadInput(f"{device.entry.name} has no unit behind it")
    gone = units - device.memory.missing
    device.memory.missing |= gone
    return _later(partial(device.memory.missing.difference_update, gone))


async def _slot_empty(faults: Faults, device: SimulatedDevice, how: str) -> Undo:
    return await _without(device, TOP.below(PartKind.SLOT, _number(how, "slot", 254)))


async def _without(device: SimulatedDevice, path: PartPath) -> Undo:
    """Take a part away, or off its line."""
    if all(part.path != path for part in device.entry.parts):
        raise BadInput(f"{device.entry.name} has no {path}")
    device.memory.missing.add(path)
    return _later(partial(device.memory.missing.discard, path))


async def _device_unplugged(faults: Faults, device: SimulatedDevice, how: str) -> Undo:
    return await faults.unplug(device.entry.name)


async def _device_flapping(faults: Faults, device: SimulatedDevice, how: str) -> Undo:
    return await faults.flap(device.entry.name)


OnDevice = Callable[[Faults, SimulatedDevice, str], Awaitable[Undo]]

ON_DEVICES: dict[str, OnDevice] = {
    "no-link": _device_unplugged,
    "flapping": _device_flapping,
    "nobody-there": _no_power,
    "router-silent": _device_unplugged,
    "moved": _moved,
    "mask": _mask,
    "asking": _asking,
    "unset": _unset,
    "wrong-device": _wrong_device,
    "address-shared": _address_shared,
    "ping-ignored": _ping_ignored,
    "door-closed": _door_closed,
    "door-silent": _door_silent,
    "speaks-otherwise": _speaks_otherwise,
    "lossy": _lossy,
    "large-lost": _large_lost,
    "slow": _slow,
    "stops-at-hop": _stops_at_hop,
    "return-filtered": _return_filtered,
    "unit-silent": _unit_silent,
    "line-silent": _line_silent,
    "slot-empty": _slot_empty,
}


# Faults of the workstation.


async def _unplugged(faults: Faults, adapter: Adapter, how: str) -> Undo:
    return await faults.unplug(adapter.name)


async def _flapping(faults: Faults, adapter: Adapter, how: str) -> Undo:
    return await faults.flap(adapter.name)


async def _no_address(faults: Faults, adapter: Adapter, how: str) -> Undo:
    def change() -> None:
        for own in adapter.interfaces:
            addresses.remove_address(adapter, own)

    return await faults.change_addresses(adapter, change)


async def _other_subnet(faults: Faults, adapter: Adapter, how: str) -> Undo:
    goal = parse_interface(how) if how else _ODD_SUBNET

    def change() -> None:
        for own in adapter.interfaces:
            addresses.remove_address(adapter, own)
        addresses.add_address(adapter, goal)

    return await faults.change_addresses(adapter, change)


async def _no_router(faults: Faults, adapter: Adapter, how: str) -> Undo:
    def change() -> None:
        for own in adapter.interfaces:
            # With an address, the kernel takes off the routes that need it.
            addresses.remove_address(adapter, own)
            addresses.add_address(adapter, own)

    return await faults.change_addresses(adapter, change)


async def _own_address_taken(faults: Faults, adapter: Adapter, how: str) -> Undo:
    if not adapter.interfaces:
        raise BadInput(f"{adapter.name} has no address that somebody could take")
    mac = parse_mac(how) if how else None
    return await faults.intrude(adapter.name, adapter.interfaces[0], mac)


async def _fixed_neighbour(faults: Faults, adapter: Adapter, how: str) -> Undo:
    if not how:
        raise BadInput("whose address? name one: 10.61.20.10")
    return await faults.fix_neighbour(adapter.name, parse_address(how), _NOBODYS_MAC)


async def _route_elsewhere(faults: Faults, adapter: Adapter, how: str) -> Undo:
    return await faults.lead_elsewhere(adapter, how)


def _filter(way: Way) -> OnWorkstation:
    async def make(faults: Faults, adapter: Adapter, how: str) -> Undo:
        if not how:
            raise BadInput("whose packets? name an address: 10.61.20.10")
        return await faults.filter_workstation(Filtered(way, parse_address(how)))

    return make


OnWorkstation = Callable[[Faults, Adapter, str], Awaitable[Undo]]

ON_WORKSTATION: dict[str, OnWorkstation] = {
    "no-link": _unplugged,
    "flapping": _flapping,
    "no-address": _no_address,
    "other-subnet": _other_subnet,
    "own-address-taken": _own_address_taken,
    "route-elsewhere": _route_elsewhere,
    "fixed-neighbour": _fixed_neighbour,
    "no-router": _no_router,
    "firewall-out": _filter(Way.OUT),
    "firewall-in": _filter(Way.IN),
}


def _halves(adapter: Adapter) -> list[IPv4Network]:
    halves = [half for own in adapter.interfaces for half in own.network.subnets()]
    if not halves:
        raise BadInput(f"{adapter.name} has no address", "say which subnet: 10.61.20.0/24")
    return halves


def _set_filter_of_sources(adapter: str, value: str) -> str:
    """Set the reverse-path filter; gives what it was."""
    path = Path("/proc/sys/net/ipv4/conf") / adapter / "rp_filter"
    before = path.read_text().strip()
    path.write_text(value)
    return before
