"""What is inside simulated devices: a serial line with units, a rack with modules, interfaces."""

from __future__ import annotations

import asyncio
from collections.abc import Iterator
from ipaddress import IPv4Address, IPv4Interface
from typing import NamedTuple

from portcall.core.address import UNSPECIFIED, Mac
from portcall.core.part_path import HIGHEST, TOP, PartKind, PartPath
from portcall.core.wire import cip, cip_link, cip_message, cip_route, cip_tcpip, modbus, snmp
from portcall.core.wire.cip_route import BACKPLANE, Route
from portcall.core.wire.cip_tcpip import Attribute
from portcall.plant.memory import Memory
from portcall.plant.scenario import DeviceEntry, Nameplate, PartEntry

ILLEGAL_FUNCTION, ILLEGAL_ADDRESS, NO_WAY_BEHIND, NO_ANSWER_BEHIND = 0x01, 0x02, 0x0A, 0x0B
"""MODBUS Application Protocol V1.1b3 §7."""

_INTERFACE_ETHERNET = 6
_UP, _DOWN = 1, 2
_OUT_OF_RACK = 17


async def ask_unit(memory: Memory, unit: int, pdu: bytes) -> bytes:
    """The answer to one question on the serial line: one at a time, whoever asks."""
    entry, path = memory.entry, TOP.below(PartKind.UNIT, unit)
    if not 0 < unit <= HIGHEST[PartKind.UNIT]:
        # Modbus over serial line §2.2: such a number is never sent on one.
        return _refused(pdu, NO_WAY_BEHIND)
    async with memory.line:
        part = next((p for p in entry.parts if p.path == path and path not in memory.missing), None)
        if part is None:
            await asyncio.sleep(entry.serial_timeout)
            return _refused(pdu, NO_ANSWER_BEHIND)
        await asyncio.sleep(max(entry.serial_seconds, part.answers_after))
    return _refused(pdu, part.refuses) if part.refuses else answer(part, pdu)


def _refused(pdu: bytes, exception: int) -> bytes:
    return bytes((pdu[0] | 0x80, exception))


def answer(part: PartEntry, pdu: bytes) -> bytes:
    """What one instrument answers, over whatever it is asked."""
    if pdu[:2] == bytes((modbus.ENCAPSULATED, modbus.DEVICE_IDENTIFICATION)) and part.says:
        return identification(part.nameplate, pdu)
    if pdu[0] in (modbus.READ_HOLDING, modbus.READ_INPUT) and len(pdu) == 5:
        first, count = int.from_bytes(pdu[1:3], "big"), int.from_bytes(pdu[3:5], "big")
        wanted = range(first, first + count)
        if (
            not count
            or count > modbus.MOST_REGISTERS
            or any(n not in part.registers for n in wanted)
        ):
            return _refused(pdu, ILLEGAL_ADDRESS)
        octets = b"".join(part.registers[n].to_bytes(2, "big") for n in wanted)
        return modbus.encode_registers(pdu[0], octets)
    return _refused(pdu, ILLEGAL_FUNCTION)


def identification(plate: Nameplate, asked: bytes) -> bytes:
    """A nameplate as device identification."""
    objects = (
        (modbus.ObjectId.VENDOR_NAME, plate.maker),
        (modbus.ObjectId.PRODUCT_CODE, str(plate.product_code)),
        (modbus.ObjectId.REVISION, f"{plate.major}.{plate.minor:03d}"),
        (modbus.ObjectId.PRODUCT_NAME, plate.product),
    )
    code, first = asked[2], asked[3]
    limit = modbus.ObjectId.VENDOR_URL if code == modbus.ReadCode.BASIC else 0x80
    said = tuple((int(n), text.encode()) for n, text in objects if first <= n < limit)
    return modbus.encode_identification(modbus.Identification(said), code)


def sent_on(memory: Memory, data: bytes) -> cip_message.Response:
    """What comes back for a request that is to be sent on through the backplane. Malformed."""
    wanted, route = cip_route.parse_unconnected_send(data)
    service = cip_route.UNCONNECTED_SEND
    path = _path(route)
    if path is None or not any(part.path.kind is PartKind.SLOT for part in memory.entry.parts):
        failed = cip_message.CONNECTION_FAILURE
        return cip_message.Response(service, failed, b"", cip_route.NO_PORT)
    if path.number >= _OUT_OF_RACK:
        extended = cip_route.NO_LINK_ADDRESS
        return cip_message.Response(service, cip_message.CONNECTION_FAILURE, b"", extended)
    module = next((part for part in memory.entry.parts if part.path == path), None)
    if module is None or path in memory.missing:
        extended = cip_route.TIMED_OUT
        return cip_message.Response(service, cip_message.CONNECTION_FAILURE, b"", extended)
    status, said = _serve_module(memory.entry, module, wanted)
    return cip_message.Response(wanted.service, status, said)


def _path(route: Route) -> PartPath | None:
    """Which part a route leads to: slots by port 1, and an address by another port."""
    path = TOP
    for hop in route:
        if hop.port == BACKPLANE and isinstance(hop.link, int):
            path = path.below(PartKind.SLOT, hop.link)
        elif hop.port != BACKPLANE and isinstance(hop.link, IPv4Address) and path.steps:
            path = path.below(PartKind.AT, int(hop.link))
        else:
            return None
    return path if path.steps and path.kind is PartKind.SLOT else None


def _serve_module(
    entry: DeviceEntry, module: PartEntry, wanted: cip_message.Request
) -> tuple[int, bytes]:
    all_of = cip_message.GET_ATTRIBUTES_ALL
    if (wanted.class_number, wanted.instance, wanted.service) == (cip_message.IDENTITY, 1, all_of):
        return cip_message.SUCCESS, cip.encode_attributes(plate_identity(module.nameplate))
    port = module.path.below(PartKind.PORT, wanted.instance)
    own = next((part for part in entry.parts if part.path == port), None)
    asked = (wanted.class_number, wanted.attribute)
    if asked == (cip_tcpip.TCP_IP_INTERFACE, Attribute.CONFIGURATION) and own and own.address:
        return cip_message.SUCCESS, configuration(own.address)
    return cip_message.PATH_UNKNOWN, b""


def plate_identity(plate: Nameplate) -> cip.Identity:
    """A nameplate as an identity object has it."""
    return cip.Identity(
        UNSPECIFIED,
        cip.PORT,
        plate.vendor,
        plate.device_type,
        plate.product_code,
        plate.major,
        plate.minor,
        0,
        plate.serial,
        plate.product.encode("latin-1", "replace"),
        0,
    )


def configuration(interface: IPv4Interface, gateway: IPv4Address | None = None) -> bytes:
    """An address as the TCP/IP interface object has it."""
    told = (interface.ip, interface.netmask, gateway or UNSPECIFIED, UNSPECIFIED, UNSPECIFIED)
    return cip_tcpip.encode_configuration(cip_tcpip.InterfaceConfiguration(*told))


class Interface(NamedTuple):
    """An interface of a device: its number, label, address, MAC, and whether it has a cable."""

    number: int
    label: str
    address: IPv4Interface | None
    mac: Mac
    plugged: bool


def interfaces(memory: Memory) -> Iterator[Interface]:
    """The interfaces of a device: the one on its wire, those on other wires, those on none."""
    entry = memory.entry
    yield Interface(1, "eth0", memory.interface, entry.mac, True)
    for number, leg in enumerate(entry.legs, 1):
        yield Interface(1 + number, f"eth{number}", memory.legs[number - 1], leg.mac, True)
    for part in entry.parts:
        if part.path.kind is PartKind.PORT and len(part.path.steps) == 1 and part.mac is not None:
            yield Interface(
                part.path.number, f"eth{part.path.number - 1}", part.address, part.mac, False
            )


def link_value(memory: Memory, instance: int, attribute: int | None) -> bytes | None:
    """An attribute of an Ethernet link object; None where there is none."""
    own = next((each for each in interfaces(memory) if each.number == instance), None)
    if own is None:
        return None
    values = {
        cip_link.Attribute.FLAGS: cip_tcpip.encode_word(cip_link.LINK_IS_UP if own.plugged else 0),
        cip_link.Attribute.ADDRESS: own.mac.octets,
        cip_link.Attribute.LABEL: bytes((len(own.label),)) + own.label.encode(),
    }
    return values.get(cip_link.Attribute(attribute)) if attribute in set(values) else None


def interface_values(memory: Memory) -> dict[str, snmp.Value]:
    """The tables of a device's interfaces and addresses, as SNMP has them."""
    values: dict[str, snmp.Value] = {}
    for each in interfaces(memory):
        values[f"{snmp.INTERFACE_TYPE}.{each.number}"] = _INTERFACE_ETHERNET
        values[f"{snmp.INTERFACE_ADDRESS}.{each.number}"] = each.mac.octets
        values[f"{snmp.INTERFACE_STATUS}.{each.number}"] = _UP if each.plugged else _DOWN
        values[f"{snmp.INTERFACE_NAME}.{each.number}"] = each.label.encode()
        if each.address is not None:
            values[f"{snmp.ADDRESS_INTERFACE}.{each.address.ip}"] = each.number
            values[f"{snmp.ADDRESS_MASK}.{each.address.ip}"] = each.address.netmask
    return values
