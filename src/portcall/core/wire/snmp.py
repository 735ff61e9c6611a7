"""SNMP messages of versions 1 and 2c, as far as reading a few values needs them.

RFC 1157 §4 and RFC 3416 §3 (messages), RFC 3418 §2 (the system group). The BER of it is a
library's; it is imported when the first message is made, since most commands make none.
"""

from __future__ import annotations

from collections.abc import Collection, Mapping
from enum import IntEnum
from typing import Any, NamedTuple

from portcall.core.wire.octets import Malformed, Reader

PORT = 161
LONGEST = 8192
SYS_DESCR = "1.3.6.1.2.1.1.1.0"
SYS_OBJECT_ID = "1.3.6.1.2.1.1.2.0"
SYS_NAME = "1.3.6.1.2.1.1.5.0"
SYS_LOCATION = "1.3.6.1.2.1.1.6.0"
SYSTEM = (SYS_DESCR, SYS_OBJECT_ID, SYS_NAME, SYS_LOCATION)
ENTERPRISES = "1.3.6.1.4.1."
"""RFC 1155 §3.1.4: the number that follows is the maker's."""


class Version(IntEnum):
    """The version field."""

    V1 = 0
    V2C = 1


class SnmpMessage(NamedTuple):
    """A message; ``values`` by object identifier, None where a request asks or nothing is there."""

    version: Version
    community: bytes
    request: int
    values: Mapping[str, bytes | str | None]


def encode_get(message: SnmpMessage) -> bytes:
    """A GetRequest for the keys of ``values``."""
    from puresnmp.pdu import GetRequest

    return _encode(message, GetRequest)


def encode_response(message: SnmpMessage) -> bytes:
    """A Response; values that are text are object identifiers."""
    from puresnmp.pdu import GetResponse

    return _encode(message, GetResponse)


def _encode(message: SnmpMessage, kind: type) -> bytes:
    from puresnmp.pdu import PDUContent
    from puresnmp.varbind import VarBind
    from x690.types import Integer, Null, ObjectIdentifier, OctetString, Sequence, X690Type

    def wrapped(value: bytes | str | None) -> X690Type[Any]:
        if value is None:
            return Null()
        return OctetString(value) if isinstance(value, bytes) else ObjectIdentifier(value)

    bound = [VarBind(ObjectIdentifier(key), wrapped(v)) for key, v in message.values.items()]
    pdu = kind(PDUContent(message.request, bound))
    return bytes(Sequence([Integer(message.version), OctetString(message.community), pdu]))


def parse(data: bytes) -> SnmpMessage:
    """Read a request or a response. Raises Malformed, also for one that reports an error."""
    if len(data) > LONGEST:
        raise Malformed(f"SNMP message of {len(data)} octets", LONGEST)
    _check_shape(data)
    from puresnmp.pdu import GetRequest, GetResponse
    from x690 import decode
    from x690.types import Integer, ObjectIdentifier, OctetString, Sequence

    try:
        parts, _ = decode(data, enforce_type=Sequence)
        version, community, pdu = parts
        if not (isinstance(version, Integer) and isinstance(community, OctetString)):
            raise Malformed("SNMP version or community is of another type", 0)
        if not isinstance(pdu, GetRequest | GetResponse):
            raise Malformed("SNMP message is neither a request nor a response", 0)
        values: dict[str, bytes | str | None] = {}
        for bound in pdu.value.varbinds:
            value = bound.value
            if isinstance(value, OctetString):
                values[str(bound.oid)] = bytes(value.value)
            elif isinstance(value, ObjectIdentifier):
                values[str(bound.oid)] = str(value.value)
            else:
                values[str(bound.oid)] = None
        return SnmpMessage(
            Version(version.value), community.value, int(pdu.value.request_id), values
        )
    except Malformed:
        raise
    except Exception as error:
        # The library's errors are of many kinds: its own, and those of what it is made with.
        raise Malformed(f"SNMP: {type(error).__name__}", 0) from None


_INTEGER, _OCTETS, _OBJECT_ID, _SEQUENCE = 0x02, 0x04, 0x06, 0x30
_PDUS = (0xA0, 0xA2)
_SIMPLE = {_INTEGER, _OCTETS, 0x05, _OBJECT_ID, *range(0x40, 0x47), 0x80, 0x81, 0x82}
_MOST_BOUND = 64


def _check_shape(data: bytes) -> None:
    """That the tags are those of a message and every length fits, before the library sees it.

    Nested where nothing may be nested, its error messages take time without bound.
    """
    outer = Reader(data, "SNMP")
    message = _inside(outer, (_SEQUENCE,))
    _inside(message, (_INTEGER,))
    _inside(message, (_OCTETS,))
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
