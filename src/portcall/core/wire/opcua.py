"""OPC UA over TCP: hello, a channel without security, and the endpoints a server has.

OPC 10000-6: §5.2 (binary encoding), §6.7 (secure conversation), §7.1 (connection protocol);
OPC 10000-4: §5.4.4 GetEndpoints, §5.5.2 OpenSecureChannel. Numbers are least significant octet
first.
"""

from __future__ import annotations

from enum import IntEnum
from typing import NamedTuple

from portcall.core.wire.octets import Malformed, Reader

PORT = 4840
HEADER_LENGTH = 8
LONGEST_MESSAGE = 65536
_NO_SECURITY = b"http://opcfoundation.org/UA/SecurityPolicy#None"
_NULL = (0xFFFFFFFF).to_bytes(4, "little")
_MOST_ENDPOINTS = 64


class Encoding(IntEnum):
    """OPC 10000-6 annex A: node numbers of the binary encodings."""

    OPEN_CHANNEL_REQUEST = 446
    OPEN_CHANNEL_RESPONSE = 449
    CLOSE_CHANNEL_REQUEST = 452
    GET_ENDPOINTS_REQUEST = 428
    GET_ENDPOINTS_RESPONSE = 431


class Channel(NamedTuple):
    """An open channel: its number and its token's."""

    number: int
    token: int


class Application(NamedTuple):
    """The description of a server in its endpoints."""

    uri: bytes
    product: bytes
    name: bytes
    endpoint: bytes = b""


def whole_length(head: bytes) -> int | None:
    """How long the message is that begins so, or None while that cannot be told. Malformed.

    A message that comes in several chunks (OPC 10000-6 §6.7.2) is read by its first: what a server
    says of itself is in there, before the certificates that make it long.
    """
    if len(head) < HEADER_LENGTH:
        return None
    reader = Reader(head, "OPC UA")
    kind, final = reader.take(3), reader.take(1)
    length = reader.u32_little()
    if kind not in (b"ACK", b"ERR", b"OPN", b"MSG", b"HEL", b"CLO") or final not in b"FC":
        raise reader.wrong(f"message type {kind + final!r} is none that is known")
    if not HEADER_LENGTH <= length <= LONGEST_MESSAGE:
        raise reader.wrong(f"length is {length}")
    return length


def parse_kind(data: bytes) -> bytes:
    """The three letters a message starts with."""
    return data[:3]


def is_answer(request: bytes, reply: bytes) -> bool:
    """Whether a whole message answers a request: the request ID decides (OPC 10000-6 §6.7.2.4).

    HEL and ACK have none. An error has none either, and closes the connection (§7.1.5). Raises
    Malformed.
    """
    kind = parse_kind(reply)
    if kind == b"ERR":
        return True
    if parse_kind(request) == b"HEL":
        return kind == b"ACK"
    return kind == parse_kind(request) and _request_id(reply) == _request_id(request)


def _request_id(data: bytes) -> int:
    reader = Reader(data, "OPC UA")
    reader.take(HEADER_LENGTH + 4)
    if parse_kind(data) == b"OPN":
        for _ in range(3):
            _take_string(reader)
    else:
        reader.take(4)
    reader.take(4)
    return reader.u32_little()


def _message(kind: bytes, body: bytes) -> bytes:
    return kind + b"F" + (HEADER_LENGTH + len(body)).to_bytes(4, "little") + body


def _u32(*numbers: int) -> bytes:
    return b"".join(number.to_bytes(4, "little") for number in numbers)


def _string(text: bytes) -> bytes:
    return _u32(len(text)) + text


def _node(number: int) -> bytes:
    """§5.2.2.9: four-octet form, namespace 0."""
    return b"\x01\x00" + number.to_bytes(2, "little")


def _request_header(handle: int) -> bytes:
    """OPC 10000-4 §7.33 without session: token, time, handle, diagnostics, audit, wait, extra."""
    return bytes(2) + bytes(8) + _u32(handle, 0) + _NULL + _u32(5000) + bytes(3)


def encode_hello(url: bytes) -> bytes:
    """§7.1.2.3; no limit to the size of a message, nor to its chunks."""
    return _message(b"HEL", _u32(0, LONGEST_MESSAGE, LONGEST_MESSAGE, 0, 0) + _string(url))


def encode_acknowledge() -> bytes:
    """§7.1.2.4."""
    return _message(b"ACK", _u32(0, LONGEST_MESSAGE, LONGEST_MESSAGE, LONGEST_MESSAGE, 1))


def encode_open_channel() -> bytes:
    """OpenSecureChannel without security, for a minute."""
    body = _node(Encoding.OPEN_CHANNEL_REQUEST) + _request_header(1)
    body += _u32(0, 0, 1) + _NULL + _u32(60_000)
    return _message(b"OPN", _u32(0) + _string(_NO_SECURITY) + _NULL + _NULL + _u32(1, 1) + body)


def encode_get_endpoints(channel: Channel, url: bytes) -> bytes:
    """GetEndpoints on an open channel."""
    body = _node(Encoding.GET_ENDPOINTS_REQUEST) + _request_header(2)
    body += _string(url) + _NULL + _NULL
    return _message(b"MSG", _u32(channel.number, channel.token, 2, 2) + body)


def encode_close_channel(channel: Channel) -> bytes:
    """CloseSecureChannel; the server answers by closing the connection."""
    body = _node(Encoding.CLOSE_CHANNEL_REQUEST) + _request_header(3)
    return _message(b"CLO", _u32(channel.number, channel.token, 3, 3) + body)


def _take_string(reader: Reader) -> bytes:
    length = reader.u32_little()
    return b"" if length == 0xFFFFFFFF else reader.take(length)


def _take_node(reader: Reader) -> int:
    if reader.take(2) != b"\x01\x00":
        raise reader.wrong("type is not a number of namespace 0")
    return reader.u16_little()


def _start(data: bytes, kind: bytes, expected: Encoding) -> Reader:
    """Past the headers of a response of this type."""
    if whole_length(data) != len(data):
        raise Malformed("OPC UA: length is not that of the message", 4)
    reader = Reader(data, "OPC UA")
    if reader.take(3) != kind:
        raise reader.wrong(f"is not {kind.decode()}")
    reader.take(5)
    reader.take(4)
    if kind == b"OPN":
        for _ in range(3):
            _take_string(reader)
    else:
        reader.take(4)
    reader.take(8)
    found = _take_node(reader)
    if found != expected:
        raise reader.wrong(f"type {found} is not the answer, {expected.value}")
    # OPC 10000-4 §7.34: time, handle, result, diagnostics, table of strings, extra.
    reader.take(12)
    result = reader.u32_little()
    if result >> 30:
        raise reader.wrong(f"refused with {result:#010x}")
    if reader.u8() != 0:
        raise reader.wrong("diagnostics that were not asked for")
    for _ in range(_count(reader)):
        _take_string(reader)
    reader.take(3)
    return reader


def _count(reader: Reader) -> int:
    count = reader.u32_little()
    if count == 0xFFFFFFFF:
        return 0
    if count > _MOST_ENDPOINTS:
        raise reader.wrong(f"a list of {count}")
    return count


def parse_open(data: bytes) -> Channel:
    """The channel that an OpenSecureChannel response opens. Raises Malformed."""
    reader = _start(data, b"OPN", Encoding.OPEN_CHANNEL_RESPONSE)
    reader.u32_little()
    return Channel(reader.u32_little(), reader.u32_little())


def parse_endpoints(data: bytes) -> Application:
    """The server that the first endpoint describes. Raises Malformed when there is none."""
    reader = _start(data, b"MSG", Encoding.GET_ENDPOINTS_RESPONSE)
    if _count(reader) == 0:
        raise reader.wrong("no endpoint")
    endpoint, uri, product = _take_string(reader), _take_string(reader), _take_string(reader)
    # §5.2.2.14: a localised text says in its first octet what follows.
    mask = reader.u8()
    if mask & 1:
        _take_string(reader)
    return Application(uri, product, _take_string(reader) if mask & 2 else b"", endpoint)


def _response_header(handle: int) -> bytes:
    return bytes(8) + _u32(handle, 0) + b"\0" + _u32(0) + bytes(3)


def encode_opened(channel: Channel) -> bytes:
    """An OpenSecureChannel response."""
    body = _node(Encoding.OPEN_CHANNEL_RESPONSE) + _response_header(1)
    body += _u32(0, channel.number, channel.token) + bytes(8) + _u32(60_000) + _NULL
    head = _u32(channel.number) + _string(_NO_SECURITY) + _NULL + _NULL + _u32(1, 1)
    return _message(b"OPN", head + body)


def encode_endpoints(channel: Channel, said: Application) -> bytes:
    """A GetEndpoints response with one endpoint, without security."""
    body = _node(Encoding.GET_ENDPOINTS_RESPONSE) + _response_header(2) + _u32(1)
    body += _string(said.endpoint) + _string(said.uri) + _string(said.product)
    body += b"\x02" + _string(said.name)
    # A server; no gateway, no profile, no addresses for discovery, no certificate; mode "none".
    body += _u32(0) + _NULL + _NULL + _u32(0) + _NULL + _u32(1) + _string(_NO_SECURITY)
    transport = b"http://opcfoundation.org/UA-Profile/Transport/uatcp-uasc-uabinary"
    body += _u32(0) + _string(transport) + b"\0"
    return _message(b"MSG", _u32(channel.number, channel.token, 2, 2) + body)
