"""BACnet/IP: Who-Is, I-Am, and reading a property of the device object.

ANSI/ASHRAE 135-2016: annex J (BVLC), clause 6.2 (network layer), clause 20 (application layer
encoding), 16.10 (Who-Is, I-Am), 15.5 (ReadProperty), 21 (numbers).
"""

from __future__ import annotations

from dataclasses import dataclass
from enum import IntEnum
from ipaddress import IPv4Address
from typing import NamedTuple

from portcall.core.wire.octets import Malformed, Reader

PORT = 47808
_BVLL = 0x81
_UNICAST, _BROADCAST, _FORWARDED = 0x0A, 0x0B, 0x04
_DEVICE = 8
_WHO_IS, _I_AM, _READ_PROPERTY = 8, 0, 12
_CONFIRMED, _UNCONFIRMED, _COMPLEX_ACK = 0x00, 0x10, 0x30
_ERROR = 0x50
_REFUSALS = (_ERROR, 0x60, 0x70)
"""Clause 20.1: Error, Reject and Abort."""
_OBJECT_ID, _UNSIGNED, _ENUMERATED, _CHARACTERS = 12, 2, 9, 7
_LONGEST_APDU = 1476
_CHARACTER_SETS = {0: "utf-8", 4: "utf-16-be", 5: "latin-1"}
"""Clause 20.2.9."""


class Property(IntEnum):
    """Clause 21, BACnetPropertyIdentifier."""

    DESCRIPTION = 28
    FIRMWARE_REVISION = 44
    LOCATION = 58
    MODEL_NAME = 70
    OBJECT_NAME = 77
    VENDOR_NAME = 121


@dataclass(frozen=True, slots=True)
class WhoIs:
    """Who is there? (Without limits: everybody.)"""


class IAm(NamedTuple):
    """A device says that it is there.

    ``origin`` is where it is, when a broadcast management device passed this on (annex J.2.5);
    ``network`` is that behind a router, where it is then (clause 6.2.2).
    """

    instance: int
    vendor: int
    origin: IPv4Address | None = None
    network: int | None = None


class Refused(NamedTuple):
    """A question that the device does not answer, or not with text: Error, Reject or Abort."""

    invoke: int


class ReadProperty(NamedTuple):
    """A question for one property of a device object."""

    invoke: int
    instance: int
    wanted: int


class PropertyText(NamedTuple):
    """The answer, where it is text."""

    invoke: int
    instance: int
    said: int
    text: str


Message = WhoIs | IAm | ReadProperty | PropertyText | Refused


def encode(message: Message) -> bytes:
    """The whole datagram."""
    function, expects = _UNICAST, 0
    if isinstance(message, Refused):
        # Clause 20.1.7: of an object, "unknown property" (clause 18).
        apdu = bytes((_ERROR, message.invoke, _READ_PROPERTY, 0x91, 2, 0x91, 32))
    elif isinstance(message, WhoIs):
        function, apdu = _BROADCAST, bytes((_UNCONFIRMED, _WHO_IS))
    elif isinstance(message, IAm):
        apdu = bytes((_UNCONFIRMED, _I_AM)) + _tagged(_OBJECT_ID, _device(message.instance))
        apdu += _tagged(_UNSIGNED, _number(_LONGEST_APDU)) + _tagged(_ENUMERATED, b"\x03")
        apdu += _tagged(_UNSIGNED, _number(message.vendor))
    elif isinstance(message, ReadProperty):
        expects = 0x04  # NPCI: a reply is expected.
        apdu = bytes((_CONFIRMED, 0x05, message.invoke, _READ_PROPERTY))
        apdu += b"\x0c" + _device(message.instance) + _context(1, _number(message.wanted))
    else:
        apdu = bytes((_COMPLEX_ACK, message.invoke, _READ_PROPERTY))
        apdu += b"\x0c" + _device(message.instance) + _context(1, _number(message.said))
        text = _tagged(_CHARACTERS, b"\0" + message.text.encode())
        apdu += b"\x3e" + text + b"\x3f"
    length = 4 + 2 + len(apdu)
    return bytes((_BVLL, function)) + length.to_bytes(2, "big") + bytes((1, expects)) + apdu


def _device(instance: int) -> bytes:
    return (_DEVICE << 22 | instance).to_bytes(4, "big")


def _number(value: int) -> bytes:
    return value.to_bytes(max(1, (value.bit_length() + 7) // 8), "big")


def _tagged(tag: int, value: bytes) -> bytes:
    """Clause 20.2.1: an application tag; lengths over 4 in one further octet, or in three."""
    return _head(tag << 4, len(value)) + value


def _context(tag: int, value: bytes) -> bytes:
    return _head(tag << 4 | 0x08, len(value)) + value


def _head(first: int, length: int) -> bytes:
    if length <= 4:
        return bytes((first | length,))
    if length < 254:
        return bytes((first | 5, length))
    return bytes((first | 5, 254)) + length.to_bytes(2, "big")


def parse(data: bytes) -> Message:
    """Read a datagram. Raises Malformed, also for services that finding does not speak."""
    reader = Reader(data, "BACnet")
    if reader.u8() != _BVLL:
        raise reader.wrong("is not BACnet/IP")
    function, length = reader.u8(), reader.u16()
    if length != len(data):
        raise reader.wrong(f"length says {length} octets, here are {len(data)}")
    origin = None
    if function == _FORWARDED:
        origin = reader.address()
        reader.take(2)
    elif function not in (_UNICAST, _BROADCAST):
        raise reader.wrong(f"function {function} carries no message")
    network = _pass_network_layer(reader)
    kind = reader.u8()
    if kind & 0xF0 == _UNCONFIRMED:
        service = reader.u8()
        if service == _WHO_IS:
            return WhoIs()
        if service == _I_AM:
            return _i_am(reader)._replace(origin=origin, network=network)
    elif kind == _CONFIRMED:
        reader.u8()
        invoke = reader.u8()
        if reader.u8() == _READ_PROPERTY:
            instance, wanted = _object_and_property(reader)
            return ReadProperty(invoke, instance, wanted)
    elif kind == _COMPLEX_ACK:
        invoke = reader.u8()
        if reader.u8() == _READ_PROPERTY:
            try:
                return _property_text(reader, invoke)
            except Malformed:
                return Refused(invoke)
    elif kind & 0xF0 in _REFUSALS:
        return Refused(reader.u8())
    raise reader.wrong("is another service")


def _pass_network_layer(reader: Reader) -> int | None:
    """Clause 6.2.2: version, control, and the addresses that control announces.

    Gives the number of the network that it comes from, when a router passed it on.
    """
    source = None
    if reader.u8() != 1:
        raise reader.wrong("network layer version is not 1")
    control = reader.u8()
    if control & 0x80:
        raise reader.wrong("is a network layer message")
    if control & 0x20:
        reader.u16()
        reader.take(reader.u8())
    if control & 0x08:
        source = reader.u16()
        reader.take(reader.u8())
    if control & 0x20:
        reader.u8()
    return source


def _value(reader: Reader, tag: int) -> bytes:
    """The value under an application tag, which must be this one."""
    first = reader.u8()
    if first >> 4 != tag or first & 0x08:
        raise reader.wrong(f"tag {first:#04x} is not application tag {tag}")
    return _sized(reader, first & 0x07)


def _sized(reader: Reader, length: int) -> bytes:
    if length == 5:
        length = reader.u8()
        if length == 254:
            length = reader.u16()
        elif length == 255:
            length = reader.u32()
    elif length > 5:
        raise reader.wrong("a bracket where a value should be")
    return reader.take(length)


def _instance(reader: Reader, octets: bytes) -> int:
    number = int.from_bytes(octets, "big")
    if len(octets) != 4 or number >> 22 != _DEVICE:
        raise reader.wrong("is no device object")
    return number & 0x3FFFFF


def _i_am(reader: Reader) -> IAm:
    instance = _instance(reader, _value(reader, _OBJECT_ID))
    _value(reader, _UNSIGNED)
    _value(reader, _ENUMERATED)
    return IAm(instance, int.from_bytes(_value(reader, _UNSIGNED)[:4], "big"))


def _object_and_property(reader: Reader) -> tuple[int, int]:
    if reader.u8() != 0x0C:
        raise reader.wrong("does not start with an object")
    instance = _instance(reader, reader.take(4))
    first = reader.u8()
    if first & 0xF8 != 0x18:
        raise reader.wrong("has no property after its object")
    return instance, int.from_bytes(_sized(reader, first & 0x07)[:4], "big")


def _property_text(reader: Reader, invoke: int) -> PropertyText:
    instance, said = _object_and_property(reader)
    if reader.u8() != 0x3E:
        raise reader.wrong("has no value, or an array's element")
    value = _value(reader, _CHARACTERS)
    codec = _CHARACTER_SETS.get(value[0] if value else 0)
    if codec is None:
        raise reader.wrong(f"character set {value[0]} is not read")
    return PropertyText(invoke, instance, said, value[1:].decode(codec, "replace"))
