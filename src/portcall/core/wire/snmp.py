"""SNMP messages of versions 1 and 2c, as far as reading a few values needs them; engines of 3.

RFC 1157 §4 and RFC 3416 §3 (messages), RFC 3418 §2 (the system group), RFC 3412 §6 and RFC 3411 §5
(version 3 and its engine IDs). All of it is written in BER (X.690 §8): a tag, a length, contents.
"""

from __future__ import annotations

from collections.abc import Collection, Mapping
from enum import IntEnum
from ipaddress import IPv4Address
from typing import NamedTuple

from portcall.core.wire.octets import Malformed, Reader

PORT = 161
LONGEST = 8192
SYS_DESCR = "1.3.6.1.2.1.1.1.0"
SYS_OBJECT_ID = "1.3.6.1.2.1.1.2.0"
SYS_NAME = "1.3.6.1.2.1.1.5.0"
SYS_LOCATION = "1.3.6.1.2.1.1.6.0"
SYSTEM = (SYS_DESCR, SYS_OBJECT_ID, SYS_NAME, SYS_LOCATION)
NET_MASK = "1.3.6.1.2.1.4.20.1.3."
"""RFC 4293 §5, ipAdEntNetMask; the address that the mask belongs to follows."""

ADDRESS_INTERFACE, ADDRESS_MASK = "1.3.6.1.2.1.4.20.1.2", "1.3.6.1.2.1.4.20.1.3"
INTERFACE_TYPE = "1.3.6.1.2.1.2.2.1.3"
INTERFACE_ADDRESS = "1.3.6.1.2.1.2.2.1.6"
INTERFACE_STATUS = "1.3.6.1.2.1.2.2.1.8"
LOOPBACK, IS_DOWN = 24, 2
"""RFC 4293 §5, ipAdEntIfIndex and ipAdEntNetMask by address; RFC 2863 §6, ifType, ifPhysAddress and
ifOperStatus by interface, and a number of each."""

BRIDGE_ADDRESS = "1.3.6.1.2.1.17.1.1"
BRIDGE_PORT_INTERFACE = "1.3.6.1.2.1.17.1.4.1.2"
BRIDGE_FORWARDING = "1.3.6.1.2.1.17.4.3.1.2"
"""RFC 4188 §4: dot1dBaseBridgeAddress, dot1dBasePortIfIndex by port, dot1dTpFdbPort by MAC."""

VLAN_FORWARDING = "1.3.6.1.2.1.17.7.1.2.2.1.2"
"""RFC 4363 §5, dot1qTpFdbPort: by the number of the filtering database, and the MAC."""

INTERFACE_DESCRIPTION = "1.3.6.1.2.1.2.2.1.2"
INTERFACE_NAME = "1.3.6.1.2.1.31.1.1.1.1"
"""RFC 2863 §6: ifDescr and ifName, by interface."""

LLDP_CHASSIS = "1.0.8802.1.1.2.1.3.2"
LLDP_PORT_ID_SUBTYPE = "1.0.8802.1.1.2.1.3.7.1.2"
LLDP_PORT_ID = "1.0.8802.1.1.2.1.3.7.1.3"
LLDP_PORT_DESCRIPTION = "1.0.8802.1.1.2.1.3.7.1.4"
LLDP_REMOTE_CHASSIS_SUBTYPE = "1.0.8802.1.1.2.1.4.1.1.4"
LLDP_REMOTE_CHASSIS = "1.0.8802.1.1.2.1.4.1.1.5"
LLDP_REMOTE_PORT_SUBTYPE = "1.0.8802.1.1.2.1.4.1.1.6"
LLDP_REMOTE_PORT = "1.0.8802.1.1.2.1.4.1.1.7"
LLDP_REMOTE_NAME = "1.0.8802.1.1.2.1.4.1.1.9"
"""IEEE 802.1AB-2005 §12.2: the local system by port, remote ones by time mark, port and number."""

ENTERPRISES = "1.3.6.1.4.1."
"""RFC 1155 §3.1.4: the number that follows is the maker's."""


class Version(IntEnum):
    """The version field."""

    V1 = 0
    V2C = 1


Value = bytes | str | int | IPv4Address | None
"""Octets, an object identifier, a number, an address; None for what is not there."""


class SnmpMessage(NamedTuple):
    """A message; ``values`` by object identifier, None where a request asks or nothing is there."""

    version: Version
    community: bytes
    request: int
    values: Mapping[str, Value]
    asks_next: bool = False
    """It is a GetNextRequest: what it asks for is what follows each key."""
    repetitions: int = 0
    """It is a GetBulkRequest: so many are asked for that follow each key."""


_INTEGER, _OCTETS, _NULL, _OBJECT_ID, _SEQUENCE = 0x02, 0x04, 0x05, 0x06, 0x30
_IP_ADDRESS = 0x40
_NUMBERS = (_INTEGER, 0x41, 0x42, 0x43, 0x46)
"""INTEGER, and of RFC 3416 §3 Counter32, Unsigned32, TimeTicks, Counter64."""

_OTHERS = (_NULL, 0x44, 0x45, 0x80, 0x81, 0x82)
"""What tells no value: NULL, Opaque, and that there is no object, no instance or nothing more."""

_GET, _GET_NEXT, _RESPONSE, _GET_BULK = 0xA0, 0xA1, 0xA2, 0xA5
_MOST_BOUND = 64


def encode_get(message: SnmpMessage) -> bytes:
    """A GetRequest for the keys of ``values``."""
    return _encode(message, _GET)


def encode_get_next(message: SnmpMessage) -> bytes:
    """A GetNextRequest for what follows the keys of ``values``."""
    return _encode(message, _GET_NEXT)


def encode_get_bulk(message: SnmpMessage) -> bytes:
    """A GetBulkRequest for the ``repetitions`` that follow the keys of ``values``; not version 1.

    RFC 3416 §4.2.3: the number that are asked for once, none here, stands where an error would.
    """
    asked = message._replace(values=dict.fromkeys(message.values))
    return _encode(asked, _GET_BULK, message.repetitions)


def encode_discovery(number: int) -> bytes:
    """A version 3 message from nobody, which an engine answers with its ID (RFC 3414 §4)."""
    message_number = number.to_bytes(4, "big")
    header = b"\x30\x11\x02\x04" + message_number + _HEADER_REST
    nobody = b"\x04\x10\x30\x0e\x04\x00\x02\x01\x00\x02\x01\x00" + b"\x04\x00" * 3
    get = b"\xa0\x0e\x02\x04" + message_number + b"\x02\x01\x00\x02\x01\x00\x30\x00"
    body = b"\x02\x01\x03" + header + nobody + b"\x30\x14\x04\x00\x04\x00" + get
    return bytes((_SEQUENCE, len(body))) + body


_HEADER_REST = bytes.fromhex("020300ffe3 040104 020103")
"""RFC 3412 §6: the largest message taken, the flag "report it", the user-based security model."""


def parse_engine(data: bytes) -> tuple[int, bytes]:
    """The number of a version 3 message and the ID of the engine that sent it. Raises Malformed."""
    message = _inside(Reader(data, "SNMP"), (_SEQUENCE,))
    version = _inside(message, (_INTEGER,)).rest()
    header = _inside(message, (_SEQUENCE,))
    number = int.from_bytes(_inside(header, (_INTEGER,)).rest(), "big")
    security = _inside(_inside(message, (_OCTETS,)), (_SEQUENCE,))
    engine = _inside(security, (_OCTETS,)).rest()
    if version != b"\x03" or not 5 <= len(engine) <= 32:
        raise message.wrong("names no engine of version 3")
    return number, engine


def parse_error(data: bytes) -> int:
    """The number of a response that reports an error instead of values. Raises Malformed.

    Version 1 says so that nothing follows what was asked for (RFC 1157 §4.1.3).
    """
    message = _inside(Reader(data, "SNMP"), (_SEQUENCE,))
    _inside(message, (_INTEGER,))
    _inside(message, (_OCTETS,))
    pdu = _inside(message, (_RESPONSE,))
    number = int.from_bytes(_inside(pdu, (_INTEGER,)).rest(), "big")
    if not any(_inside(pdu, (_INTEGER,)).rest()):
        raise message.wrong("reports no error")
    return number


def encode_response(message: SnmpMessage) -> bytes:
    """A Response; values that are text are object identifiers."""
    return _encode(message, _RESPONSE)


def _encode(message: SnmpMessage, pdu: int, index: int = 0) -> bytes:
    pairs = (
        _tagged(_SEQUENCE, _tagged(_OBJECT_ID, _identifier(key)) + _value(value))
        for key, value in message.values.items()
    )
    numbers = b"".join(_tagged(_INTEGER, _number(each)) for each in (message.request, 0, index))
    body = _tagged(pdu, numbers + _tagged(_SEQUENCE, b"".join(pairs)))
    head = _tagged(_INTEGER, _number(message.version)) + _tagged(_OCTETS, message.community)
    return _tagged(_SEQUENCE, head + body)


def _tagged(tag: int, contents: bytes) -> bytes:
    """Contents with their tag and length, which is one octet where that is enough (X.690 §8.1)."""
    count = len(contents)
    if count < 0x80:
        return bytes((tag, count)) + contents
    length = count.to_bytes((count.bit_length() + 7) // 8, "big")
    return bytes((tag, 0x80 | len(length))) + length + contents


def _number(value: int) -> bytes:
    """Two's complement in as few octets as hold it (X.690 §8.3)."""
    return value.to_bytes((value + (value < 0)).bit_length() // 8 + 1, "big", signed=True)


def _identifier(key: str) -> bytes:
    """The numbers of an object identifier, seven bits an octet, two in the first (X.690 §8.19)."""
    first, second, *rest = map(int, key.split("."))
    octets = bytearray()
    for number in (first * 40 + second, *rest):
        sevens = [number & 0x7F]
        while number := number >> 7:
            sevens.append(0x80 | number & 0x7F)
        octets += bytes(reversed(sevens))
    return bytes(octets)


def _value(value: Value) -> bytes:
    if value is None:
        return _tagged(_NULL, b"")
    if isinstance(value, int):
        return _tagged(_INTEGER, _number(value))
    if isinstance(value, IPv4Address):
        return _tagged(_IP_ADDRESS, value.packed)
    if isinstance(value, bytes):
        return _tagged(_OCTETS, value)
    return _tagged(_OBJECT_ID, _identifier(value))


def parse(data: bytes) -> SnmpMessage:
    """Read a request or a response. Raises Malformed, also for one that reports an error."""
    if len(data) > LONGEST:
        raise Malformed(f"SNMP message of {len(data)} octets", LONGEST)
    outer = Reader(data, "SNMP")
    message = _inside(outer, (_SEQUENCE,))
    version = _integer(message)
    community = _inside(message, (_OCTETS,)).rest()
    kind, pdu = _under(message, (_GET, _GET_NEXT, _RESPONSE, _GET_BULK))
    request, error, index = _integer(pdu), _integer(pdu), _integer(pdu)
    bound = _inside(pdu, (_SEQUENCE,))
    values: dict[str, Value] = {}
    while bound.remaining:
        if len(values) >= _MOST_BOUND:
            raise bound.wrong(f"more than {_MOST_BOUND} values")
        pair = _inside(bound, (_SEQUENCE,))
        key = _read_identifier(_inside(pair, (_OBJECT_ID,)))
        values[key] = _read_value(*_under(pair, _VALUES))
        _at_end(pair)
    for reader in (pdu, message, outer):
        _at_end(reader)
    if version not in set(Version):
        raise outer.wrong(f"version {version}")
    if error and kind != _GET_BULK:
        raise outer.wrong(f"reports the error {error}")
    repetitions = index if kind == _GET_BULK else 0
    return SnmpMessage(Version(version), community, request, values, kind == _GET_NEXT, repetitions)


_VALUES = (_OCTETS, _OBJECT_ID, _IP_ADDRESS, *_NUMBERS, *_OTHERS)


def _read_value(tag: int, contents: Reader) -> Value:
    if tag in _NUMBERS:
        return int.from_bytes(contents.rest(), "big", signed=True)
    if tag == _OBJECT_ID:
        return _read_identifier(contents)
    octets = contents.rest()
    if tag == _IP_ADDRESS:
        return IPv4Address(octets) if len(octets) == 4 else None
    return octets if tag == _OCTETS else None


def _integer(reader: Reader) -> int:
    contents = _inside(reader, (_INTEGER,)).rest()
    if not contents:
        raise reader.wrong("a number without octets")
    return int.from_bytes(contents, "big", signed=True)


def _read_identifier(contents: Reader) -> str:
    numbers: list[int] = []
    number = 0
    while contents.remaining:
        octet = contents.u8()
        number = number << 7 | octet & 0x7F
        if not octet & 0x80:
            numbers.append(number)
            number = 0
        elif not contents.remaining or number > _LARGEST_ARC:
            raise contents.wrong("a number of an object identifier has no end")
    if not numbers:
        raise contents.wrong("an object identifier without numbers")
    first = min(numbers[0] // 40, 2)
    return ".".join(map(str, (first, numbers[0] - 40 * first, *numbers[1:])))


_LARGEST_ARC = 2**32
"""RFC 2578 §3.5: no number of an object identifier is larger."""


def _inside(reader: Reader, tags: Collection[int]) -> Reader:
    """The contents under the next tag, which must be one of these."""
    return _under(reader, tags)[1]


def _under(reader: Reader, tags: Collection[int]) -> tuple[int, Reader]:
    """The next tag, which must be one of these, and its contents (X.690 §8.1)."""
    tag, length = reader.u8(), reader.u8()
    if tag not in tags:
        raise reader.wrong(f"tag {tag:#04x} has no place here")
    if length & 0x80:
        octets = length & 0x7F
        if not 1 <= octets <= 3:
            raise reader.wrong(f"a length of {octets} octets")
        length = int.from_bytes(reader.take(octets), "big")
    return tag, Reader(reader.take(length), "SNMP")


def _at_end(reader: Reader) -> None:
    if reader.remaining:
        raise reader.wrong(f"{reader.remaining} octets too many")
