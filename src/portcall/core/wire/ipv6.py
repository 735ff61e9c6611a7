"""As much IPv6 as finding needs: echo to all nodes of a link, and being found for the answer.

RFC 8200 §3 (header), RFC 4443 §2.3 (checksum), §4 (echo), RFC 4861 §4.3 and §4.4 (neighbour
solicitation and advertisement), RFC 4291 §2.5.1 (interface identifier from a MAC).
"""

from __future__ import annotations

from enum import IntEnum
from ipaddress import IPv6Address
from typing import NamedTuple

from portcall.core.address import Mac
from portcall.core.wire import ethernet
from portcall.core.wire.ethernet import EtherType
from portcall.core.wire.octets import Malformed, Reader, internet_checksum

PROTOCOL_ICMPV6 = 58
ALL_NODES = IPv6Address("ff02::1")
ALL_NODES_MAC = Mac(b"\x33\x33\x00\x00\x00\x01")
_HOPS = 255
"""RFC 4861 §4.3: neighbour messages are believed only with this hop limit."""


class Icmp6(IntEnum):
    """ICMPv6 types."""

    ECHO_REQUEST = 128
    ECHO_REPLY = 129
    NEIGHBOUR_SOLICITATION = 135
    NEIGHBOUR_ADVERTISEMENT = 136


class Icmpv6Frame(NamedTuple):
    """An ICMPv6 message with all that carried it over the link; ``body`` follows the checksum."""

    source_mac: Mac
    destination_mac: Mac
    source: IPv6Address
    destination: IPv6Address
    kind: int
    code: int
    body: bytes


def link_local(mac: Mac) -> IPv6Address:
    """The address a MAC has by RFC 4291 §2.5.1 and its appendix A."""
    octets = mac.octets
    identifier = bytes((octets[0] ^ 2,)) + octets[1:3] + b"\xff\xfe" + octets[3:]
    return IPv6Address(b"\xfe\x80" + bytes(6) + identifier)


def parse_frame(data: bytes) -> Icmpv6Frame:
    """Read an Ethernet frame that carries ICMPv6 right after its IPv6 header, or Malformed."""
    outer = ethernet.parse(data)
    if outer.ethertype != EtherType.IPV6:
        raise Malformed(f"EtherType is {outer.ethertype:#06x}, not IPv6", 12)
    reader = Reader(outer.payload, "IPv6")
    if reader.u32() >> 28 != 6:
        raise reader.wrong("version is not 6")
    length, protocol = reader.u16(), reader.u8()
    reader.u8()
    source, destination = IPv6Address(reader.take(16)), IPv6Address(reader.take(16))
    if protocol != PROTOCOL_ICMPV6:
        raise reader.wrong(f"next header is {protocol}, not ICMPv6")
    payload = reader.take(length)
    if internet_checksum(_pseudo_header(source, destination, length) + payload) != 0:
        raise reader.wrong("checksum is wrong")
    inner = Reader(payload, "ICMPv6")
    kind, code = inner.u8(), inner.u8()
    inner.take(2)
    return Icmpv6Frame(
        outer.source, outer.destination, source, destination, kind, code, inner.rest()
    )


def encode_frame(frame: Icmpv6Frame) -> bytes:
    """The frame's bytes, with checksum and the hop limit that neighbours want."""
    payload = bytes((frame.kind, frame.code, 0, 0)) + frame.body
    pseudo = _pseudo_header(frame.source, frame.destination, len(payload))
    checksum = internet_checksum(pseudo + payload)
    payload = payload[:2] + checksum.to_bytes(2, "big") + payload[4:]
    head = (6 << 28).to_bytes(4, "big") + len(payload).to_bytes(2, "big")
    head += bytes((PROTOCOL_ICMPV6, _HOPS)) + frame.source.packed + frame.destination.packed
    return ethernet.encode(
        ethernet.EthernetFrame(
            frame.destination_mac, frame.source_mac, EtherType.IPV6, head + payload
        )
    )


def encode_echo_to_all(own_mac: Mac, identifier: int) -> bytes:
    """A whole frame that asks every node of the link for an echo."""
    body = identifier.to_bytes(2, "big") + (1).to_bytes(2, "big") + bytes(8)
    return encode_frame(
        Icmpv6Frame(
            own_mac, ALL_NODES_MAC, link_local(own_mac), ALL_NODES, Icmp6.ECHO_REQUEST, 0, body
        )
    )


def encode_advertisement(own_mac: Mac, asked: Icmpv6Frame) -> bytes:
    """The answer to a solicitation for our address: solicited and overriding (RFC 4861 §4.4)."""
    own = link_local(own_mac)
    body = (0x60000000).to_bytes(4, "big") + own.packed + b"\x02\x01" + own_mac.octets
    return encode_frame(
        Icmpv6Frame(
            own_mac,
            asked.source_mac,
            own,
            asked.source,
            Icmp6.NEIGHBOUR_ADVERTISEMENT,
            0,
            body,
        )
    )


def parse_solicited(message: Icmpv6Frame) -> IPv6Address:
    """Whose MAC a solicitation asks for. Raises Malformed."""
    reader = Reader(message.body, "neighbour solicitation")
    reader.u32()
    return IPv6Address(reader.take(16))


def _pseudo_header(source: IPv6Address, destination: IPv6Address, length: int) -> bytes:
    """RFC 8200 §8.1."""
    addresses = source.packed + destination.packed
    return addresses + length.to_bytes(4, "big") + bytes(3) + bytes((PROTOCOL_ICMPV6,))
