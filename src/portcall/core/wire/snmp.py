"""SNMP messages of versions 1 and 2c, as far as reading a few values needs them; engines of 3.

RFC 1157 §4 and RFC 3416 §3 (messages), RFC 3418 §2 (the system group), RFC 3412 §6 and RFC 3411 §5
(version 3 and its engine IDs). The BER of it is a
library's; it is imported when the first message is made, since most commands make none.
"""

from __future__ import annotations

from collections.abc import Collection, Mapping
from enum import IntEnum
from ipaddress import IPv4Address
from typing import Any, NamedTuple

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


def encode_get(message: SnmpMessage) -> bytes:
    """A GetRequest for the keys of ``values``."""
    from puresnmp.pdu import GetRequest

    return _encode(message, GetRequest)


def encode_get_next(message: SnmpMessage) -> bytes:
    """A GetNextRequest for what follows the keys of ``values``."""
    from puresnmp.pdu import GetNextRequest

    return _encode(message, GetNextRequest)


def encode_get_bulk(message: SnmpMessage) -> bytes:
    """A GetBulkRequest for the ``repetitions`` that follow the keys of ``values``; not version 1.

    RFC 3416 §4.2.3.
    """
    from puresnmp.pdu import BulkGetRequest
    from x690.types import ObjectIdentifier

    keys = [ObjectIdentifier(key) for key in message.values]
    return _whole(message, BulkGetRequest(message.request, 0, message.repetitions, *keys))


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
    from puresnmp.pdu import GetResponse

    return _encode(message, GetResponse)


def _encode(message: SnmpMessage, kind: type) -> bytes:
    from puresnmp.pdu import PDUContent
    from puresnmp.types import IpAddress
    from puresnmp.varbind import VarBind
    from x690.types import Integer, Null, ObjectIdentifier, OctetString, X690Type

    def wrapped(value: Value) -> X690Type[Any]:
        if value is None:
            return Null()
        if isinstance(value, int):
            return Integer(value)
        if isinstance(value, IPv4Address):
            return IpAddress(value)
        return OctetString(value) if isinstance(value, bytes) else ObjectIdentifier(value)

    bound = [VarBind(ObjectIdentifier(key), wrapped(v)) for key, v in message.values.items()]
    return _whole(message, kind(PDUContent(message.request, bound)))


def _whole(message: SnmpMessage, pdu: Any) -> bytes:
    from x690.types import Integer, OctetString, Sequence

    return bytes(Sequence([Integer(message.version), OctetString(message.community), pdu]))


def parse(data: bytes) -> SnmpMessage:
    """Read a request or a response. Raises Malformed, also for one that reports an error."""
    if len(data) > LONGEST:
        raise Malformed(f"SNMP message of {len(data)} octets", LONGEST)
    at = _check_shape(data)
    is_bulk = data[at] == _GET_BULK
    if is_bulk:
        # It has the shape of a GetNextRequest, with the repetitions where that has the place of
        # an error (RFC 3416 §3); the library reads only the latter.
        data = data[:at] + bytes((_GET_NEXT,)) + data[at + 1 :]
    from puresnmp.pdu import GetNextRequest, GetRequest, GetResponse
    from puresnmp.types import IpAddress
    from x690 import decode
    from x690.types import Integer, ObjectIdentifier, OctetString, Sequence

    try:
        parts, _ = decode(data, enforce_type=Sequence)
        version, community, pdu = parts
        if not (isinstance(version, Integer) and isinstance(community, OctetString)):
            raise Malformed("SNMP version or community is of another type", 0)
        if not isinstance(pdu, GetRequest | GetNextRequest | GetResponse):
            raise Malformed("SNMP message is neither a request nor a response", 0)
        values: dict[str, Value] = {}
        for bound in pdu.value.varbinds:
            value = bound.value
            if isinstance(value, OctetString):
                values[str(bound.oid)] = bytes(value.value)
            elif isinstance(value, ObjectIdentifier):
                values[str(bound.oid)] = str(value.value)
            elif isinstance(value, IpAddress) or (
                isinstance(value, Integer) and isinstance(value.value, int)
            ):
                values[str(bound.oid)] = value.value
            else:
                values[str(bound.oid)] = None
        return SnmpMessage(
            Version(version.value),
            community.value,
            int(pdu.value.request_id),
            values,
            isinstance(pdu, GetNextRequest) and not is_bulk,
            pdu.value.error_index if is_bulk else 0,
        )
    except Malformed:
        raise
    except Exception as error:
        # The library's errors are of many kinds: its own, and those of what it is made with.
        raise Malformed(f"SNMP: {type(error).__name__}", 0) from None


_INTEGER, _OCTETS, _OBJECT_ID, _SEQUENCE = 0x02, 0x04, 0x06, 0x30


def _is_simple(value: object) -> bool:
    return isinstance(value, int | IPv4Address)


_GET_NEXT, _RESPONSE, _GET_BULK = 0xA1, 0xA2, 0xA5
_PDUS = (0xA0, _GET_NEXT, _RESPONSE, _GET_BULK)
_SIMPLE = {_INTEGER, _OCTETS, 0x05, _OBJECT_ID, *range(0x40, 0x47), 0x80, 0x81, 0x82}
_MOST_BOUND = 64


def _check_shape(data: bytes) -> int:
    """That the tags are those of a message and every length fits, before the library sees it.

    Nested where nothing may be nested, its error messages take time without bound. Gives where the
    PDU begins.
    """
    outer = Reader(data, "SNMP")
    message = _inside(outer, (_SEQUENCE,))
    _inside(message, (_INTEGER,))
    _inside(message, (_OCTETS,))
    # The message ends where the data does, or is refused below.
    at = len(data) - message.remaining
    pdu = _inside(message, _PDUS)
    for _ in range(3):
        _inside(pdu, (_INTEGER,))
    bound = _inside(pdu, (_SEQUENCE,))
    for count in range(_MOST_BOUND + 1):
        if not bound.remaining:
            break
        if count == _MOST_BOUND:
            raise bound.wrong(f"more than {_MOST_BOUND} values")
        pair = _inside(bound, (_SEQUENCE,))
        _inside(pair, (_OBJECT_ID,))
        _inside(pair, _SIMPLE)
        _at_end(pair)
    for reader in (bound, pdu, message, outer):
        _at_end(reader)
    return at


def _inside(reader: Reader, tags: Collection[int]) -> Reader:
    """The contents under the next tag, which must be one of these (X.690 §8.1)."""
    tag, length = reader.u8(), reader.u8()
    if tag not in tags:
        raise reader.wrong(f"tag {tag:#04x} has no place here")
    if length & 0x80:
        octets = length & 0x7F
        if not 1 <= octets <= 3:
            raise reader.wrong(f"a length of {octets} octets")
        length = int.from_bytes(reader.take(octets), "big")
    return Reader(reader.take(length), "SNMP")


def _at_end(reader: Reader) -> None:
    if reader.remaining:
        raise reader.wrong(f"{reader.remaining} octets too many")
