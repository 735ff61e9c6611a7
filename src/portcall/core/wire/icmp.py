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
    """An error about an echo request of ours: where it was going and why it did not get there."""

    destination: IPv4Address
    identifier: int
    sequence: int
    reason: str


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
    if message.type == DESTINATION_UNREACHABLE:
        reason = UNREACHABLE_REASONS.get(message.code, f"unreachable, code {message.code}")
    elif message.type == TIME_EXCEEDED:
        reason = "time to live ran out on the way"
    else:
        return None
    return _undelivered(message.payload, reason)


def _identifier_and_sequence(octets: bytes) -> tuple[int, int]:
    return int.from_bytes(octets[:2], "big"), int.from_bytes(octets[2:4], "big")


def _undelivered(quoted: bytes, reason: str) -> Undelivered | None:
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
    if protocol != ipv4.PROTOCOL_ICMP or reader.u8() != ECHO_REQUEST:
        return None
    reader.take(3)
    identifier, sequence = _identifier_and_sequence(reader.take(4))
    return Undelivered(destination, identifier, sequence, reason)
