"""CIP explicit messages over the encapsulation: sessions, unconnected requests, attributes.

The CIP Networks Library, volume 2, chapter 2 (§2-4.4 RegisterSession, §2-4.7 SendRRData, §2-6
common packet format) and volume 1, chapter 2 (§2-4 message router request and response), appendix
A (services), B (general status) and C (§C-1.4 logical segments).
"""

from __future__ import annotations

from typing import NamedTuple

from portcall.core.wire import cip
from portcall.core.wire.octets import Reader

REGISTER_SESSION = 0x0065
UNREGISTER_SESSION = 0x0066
SEND_RR_DATA = 0x006F

GET_ATTRIBUTES_ALL = 0x01
RESET = 0x05
GET_ATTRIBUTE_SINGLE = 0x0E
SET_ATTRIBUTE_SINGLE = 0x10
IDENTITY = 0x01
"""The identity object's class, volume 1 §5-2; its Reset restarts the device."""

SUCCESS = 0x00
CONNECTION_FAILURE = 0x01
PATH_UNKNOWN = 0x05
SERVICE_NOT_SUPPORTED = 0x08
INVALID_VALUE = 0x09
STATE_CONFLICT = 0x0C
NOT_SETTABLE = 0x0E

_STATUS_WORDS = {
    # Volume 1, appendix B, table B-1.1: what a request to read or set can be answered with.
    CONNECTION_FAILURE: "connection failure",
    0x02: "resources not available",
    0x03: "invalid parameter value",
    0x04: "path segment error",
    PATH_UNKNOWN: "it has no such object or attribute",
    SERVICE_NOT_SUPPORTED: "service not supported",
    INVALID_VALUE: "invalid attribute value",
    0x0B: "already in the requested state",
    STATE_CONFLICT: "the state of the object forbids it",
    NOT_SETTABLE: "attribute not settable",
    0x0F: "no permission",
    0x10: "the state of the device forbids it",
    0x13: "not enough data",
    0x14: "attribute not supported",
    0x15: "too much data",
    0x16: "object does not exist",
    0x1E: "embedded service error",
    0x1F: "an error of the maker's own",
    0x20: "invalid parameter",
}

_REPLY_BIT = 0x80
_NULL_ADDRESS_ITEM = 0x0000
_UNCONNECTED_DATA_ITEM = 0x00B2
_MOST_ITEMS = 8
_PROTOCOL_VERSION = 1


class Request(NamedTuple):
    """A service of one instance of a class, or of one of its attributes; 8-bit numbers each."""

    class_number: int
    instance: int
    attribute: int | None = None
    service: int = GET_ATTRIBUTE_SINGLE
    data: bytes = b""


class Response(NamedTuple):
    """A message router response."""

    service: int
    status: int
    data: bytes
    extended: int | None = None
    """The first word of the additional status, which says more of an error."""


def encode_register_session() -> bytes:
    """A RegisterSession request; the reply's header carries the session."""
    data = _PROTOCOL_VERSION.to_bytes(2, "little") + bytes(2)
    return cip.encode(cip.Encapsulation(REGISTER_SESSION, data))


def encode_unregister_session(session: int) -> bytes:
    """An UnRegisterSession request; there is no reply, the device closes the connection."""
    return cip.encode(cip.Encapsulation(UNREGISTER_SESSION, session=session))


def encode_unconnected(session: int, message: bytes, context: bytes = bytes(8)) -> bytes:
    """A SendRRData message around a message router request or response."""
    items = b"".join(
        (
            (2).to_bytes(2, "little"),
            _NULL_ADDRESS_ITEM.to_bytes(2, "little"),
            bytes(2),
            _UNCONNECTED_DATA_ITEM.to_bytes(2, "little"),
            len(message).to_bytes(2, "little"),
            message,
        )
    )
    data = bytes(4) + bytes(2) + items  # Interface handle CIP, timeout left to the transport.
    return cip.encode(cip.Encapsulation(SEND_RR_DATA, data, session, context=context))


def parse_unconnected(message: cip.Encapsulation) -> bytes:
    """The message router bytes in a SendRRData message. Raises Malformed when there are none."""
    reader = Reader(message.data, "CIP SendRRData")
    if message.command != SEND_RR_DATA or message.status != 0:
        raise reader.wrong(f"command {message.command:#x}, status {message.status:#x}")
    reader.take(6)
    count = reader.u16_little()
    for _ in range(min(count, _MOST_ITEMS)):
        kind, length = reader.u16_little(), reader.u16_little()
        item = reader.take(length)
        if kind == _UNCONNECTED_DATA_ITEM:
            return item
    raise reader.wrong("no unconnected data item")


def encode_request(request: Request) -> bytes:
    """A message router request with an 8-bit logical path."""
    path = bytes((0x20, request.class_number, 0x24, request.instance))
    if request.attribute is not None:
        path += bytes((0x30, request.attribute))
    return bytes((request.service, len(path) // 2)) + path + request.data


def parse_request(data: bytes) -> Request:
    """Read such a request. Raises Malformed for any other form of path."""
    reader = Reader(data, "CIP request")
    service = reader.u8()
    path = reader.take(reader.u8() * 2)
    if path[0::2] not in (b"\x20\x24", b"\x20\x24\x30"):
        raise reader.wrong("path is not class, instance, attribute in 8 bits")
    attribute = path[5] if len(path) == 6 else None
    return Request(path[1], path[3], attribute, service, reader.rest())


def status_words(status: int) -> str:
    """A general status in words, with its number."""
    return f"{_STATUS_WORDS.get(status, 'refused')} (CIP general status {status:#04x})"


def encode_response(response: Response) -> bytes:
    """A message router response."""
    words = b"" if response.extended is None else response.extended.to_bytes(2, "little")
    head = bytes((response.service | _REPLY_BIT, 0, response.status, len(words) // 2))
    return head + words + response.data


def parse_response(data: bytes) -> Response:
    """Read a message router response. Raises Malformed when it is none."""
    reader = Reader(data, "CIP response")
    service = reader.u8()
    if not service & _REPLY_BIT:
        raise reader.wrong("reply bit is not set")
    reader.u8()
    status = reader.u8()
    words = reader.take(reader.u8() * 2)
    extended = int.from_bytes(words[:2], "little") if words else None
    return Response(service & ~_REPLY_BIT, status, reader.rest(), extended)
