"""ICMP (RFC 792): echo, and the errors that come back in its place."""

from __future__ import annotations

from ipaddress import IPv4Address
from typing import NamedTuple

from portcall.core.wire import ipv4
from portcall.core.wire.octets import Reader, internet_checksum

ECHO_REPLY = 0
DESTINATION_UNREACHABLE = 3
ECHO_REQUEST = 8
TIME_EXCEEDED = 11
_ECHO_HEADER = 8

UNREACHABLE_REASONS = {
    # RFC 792, Destination Unreachable, and RFC 1812 §5.2.7.1
    0: "network unreachable",
    1: "host unreachable",
    2: "protocol unreachable",
    3: "port unreachable",
    4: "fragmentation needed",
    9: "network administratively prohibited",
    10: "host administratively prohibited",
    13: "communication administratively prohibited",
}

BY_A_FILTER = frozenset(UNREACHABLE_REASONS[code] for code in (2, 3, 9, 10, 13))
"""What no router says of an echo that it has no way for."""


class IcmpMessage(NamedTuple):
    """Any message; ``rest`` is the four octets after the checksum."""

    type: int
    code: int
    rest: bytes
    payload: bytes


class Echo(NamedTuple):
    """An echo request or reply (RFC 792, Echo)."""

    is_reply: bool
    identifier: int
    sequence: int
    payload: bytes


class Undelivered(NamedTuple):
    """An error about an echo request of ours: where it was going and why it did not get there.

    ``expired``: its time to live ran out on the way. ``mtu``: how long it may be, in octets, when
    it was too long (RFC 1191 §4); None where that is not told.
    """

    destination: IPv4Address
    identifier: int
    sequence: int
    reason: str
    expired: bool = False
    mtu: int | None = None


class UndeliveredSegment(NamedTuple):
    """An error about a TCP segment of ours: its ends, and why it did not get there."""

    destination: IPv4Address
    own_port: int
    port: int
    reason: str
    expired: bool = False


def parse(data: bytes) -> IcmpMessage:
    """Read a message. Raises Malformed when it is short or its checksum is wrong."""
    reader = Reader(data, "ICMP")
    kind, code = reader.u8(), reader.u8()
    reader.u16()
    rest = reader.take(4)
    if internet_checksum(bytes(data)) != 0:
        raise reader.wrong("checksum is wrong")
    return IcmpMessage(kind, code, rest, reader.rest())


def encode(message: IcmpMessage) -> bytes:
    """The message's bytes, with checksum."""
    head = bytes((message.type, message.code))
    tail = message.rest + message.payload
    return head + internet_checksum(head + b"\0\0" + tail).to_bytes(2, "big") + tail


def encode_echo(echo: Echo) -> bytes:
    """An echo message's bytes."""
    rest = echo.identifier.to_bytes(2, "big") + echo.sequence.to_bytes(2, "big")
    kind = ECHO_REPLY if echo.is_reply else ECHO_REQUEST
    return encode(IcmpMessage(kind, 0, rest, echo.payload))


def parse_answer(data: bytes) -> Echo | Undelivered | None:
    """Read a message as an echo, or as an error about one; None when it is about neither.

    Raises Malformed as ``parse`` does, and for an error whose quoted packet is cut too short.
    """
    message = parse(data)
    if message.type in (ECHO_REPLY, ECHO_REQUEST):
        identifier, sequence = _identifier_and_sequence(message.rest)
        return Echo(message.type == ECHO_REPLY, identifier, sequence, message.payload)
    reason = _reason(message)
    if reason is None:
        return None
    destination, protocol, octets = _quoted(message.payload)
    if protocol != ipv4.PROTOCOL_ICMP or octets[0] != ECHO_REQUEST:
        return None
    identifier, sequence = _identifier_and_sequence(octets[4:8])
    expired = message.type == TIME_EXCEEDED
    mtu = int.from_bytes(message.rest[2:], "big") if _is_too_long(message) else 0
    return Undelivered(destination, identifier, sequence, reason, expired, mtu or None)


def is_reply_to(data: bytes, identifier: int) -> bool:
    """Whether a message is a whole echo reply to one's own requests.

    The same as ``parse_answer`` tells, in a fraction of its time.
    """
    return (
        len(data) >= _ECHO_HEADER
        and data[0] == ECHO_REPLY
        and data[4:6] == identifier.to_bytes(2, "big")
        and internet_checksum(data) == 0
    )


def sequence_of(data: bytes) -> int:
    """The sequence number of an echo."""
    return int.from_bytes(data[6:8], "big")


def parse_about_segment(data: bytes) -> UndeliveredSegment | None:
    """Read a message as an error about a TCP segment; None when it is none. Raises Malformed."""
    message = parse(data)
    reason = _reason(message)
    if reason is None:
        return None
    destination, protocol, octets = _quoted(message.payload)
    if protocol != ipv4.PROTOCOL_TCP:
        return None
    own_port, port = _identifier_and_sequence(octets[:4])
    return UndeliveredSegment(destination, own_port, port, reason, message.type == TIME_EXCEEDED)


def encode_undelivered(
    destination: IPv4Address, kind: int, code: int, request: bytes, mtu: int = 0
) -> bytes:
    """An error message about an echo request that was going somewhere.

    ``mtu``: how long it may be, where that is why.
    """
    quoted = ipv4.encode(ipv4.Ipv4Packet(IPv4Address(0), destination, ipv4.PROTOCOL_ICMP, request))
    return encode(IcmpMessage(kind, code, mtu.to_bytes(4, "big"), quoted))


_TOO_LONG = 4


def _is_too_long(message: IcmpMessage) -> bool:
    return message.type == DESTINATION_UNREACHABLE and message.code == _TOO_LONG


def _reason(message: IcmpMessage) -> str | None:
    """Why something was not delivered; None for another kind of message."""
    if message.type == DESTINATION_UNREACHABLE:
        return UNREACHABLE_REASONS.get(message.code, f"unreachable, code {message.code}")
    return "time to live ran out on the way" if message.type == TIME_EXCEEDED else None


def _identifier_and_sequence(octets: bytes) -> tuple[int, int]:
    return int.from_bytes(octets[:2], "big"), int.from_bytes(octets[2:4], "big")


def _quoted(quoted: bytes) -> tuple[IPv4Address, int, bytes]:
    """Where the packet was going that an error is about, its protocol, its first eight octets."""
    # RFC 792: the header of what could not be delivered and at least eight octets after it. Its
    # total length and checksum are those of the whole packet, so ipv4.parse cannot read it.
    reader = Reader(quoted, "ICMP quote")
    header_length = (reader.u8() & 0x0F) * 4
    if header_length < 20:
        raise reader.wrong("header length is under 20")
    reader.take(8)
    protocol = reader.u8()
    reader.take(6)
    destination = reader.address()
    reader.take(header_length - 20)
    return destination, protocol, reader.take(8)
