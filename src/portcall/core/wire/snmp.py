"""SNMP messages of versions 1 and 2c, as far as reading a few values needs them.

RFC 1157 §4 and RFC 3416 §3 (messages), RFC 3418 §2 (the system group). The BER of it is a
library's; it is imported when the first message is made, since most commands make none.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from enum import IntEnum
from typing import Any

from portcall.core.wire.octets import Malformed

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


@dataclass(frozen=True, slots=True)
class SnmpMessage:
    """A message; ``values`` by object identifier, None where a request asks or nothing is there."""

    version: Version
    community: bytes
    request: int
    values: Mapping[str, bytes | str | None]


def get(message: SnmpMessage) -> bytes:
    """A GetRequest for the keys of ``values``."""
    from puresnmp.pdu import GetRequest

    return _encode(message, GetRequest)


def response(message: SnmpMessage) -> bytes:
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
