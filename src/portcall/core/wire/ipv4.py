"""IPv4 packets (RFC 791 §3.1)."""

from __future__ import annotations

import struct
from ipaddress import IPv4Address
from typing import NamedTuple

from portcall.core.wire.octets import Malformed, internet_checksum

_HEADER = struct.Struct("!BBHHHBBH4s4s")
"""RFC 791 §3.1, without options."""

PROTOCOL_ICMP = 1
PROTOCOL_TCP = 6
PROTOCOL_UDP = 17
_MORE_FRAGMENTS_OR_OFFSET = 0x3FFF


class Ipv4Packet(NamedTuple):
    """A packet; ``flags_and_offset`` are the 16 bits after the identification."""

    source: IPv4Address
    destination: IPv4Address
    protocol: int
    payload: bytes
    ttl: int = 64
    type_of_service: int = 0
    identification: int = 0
    flags_and_offset: int = 0
    options: bytes = b""

    @property
    def is_fragment(self) -> bool:
        """True when the payload is only a piece of what was sent."""
        return bool(self.flags_and_offset & _MORE_FRAGMENTS_OR_OFFSET)


def parse(data: bytes) -> Ipv4Packet:
    """Read a packet and drop what follows its total length (Ethernet padding).

    Raises Malformed for another version, lengths that lie, or a wrong header checksum.
    """
    if len(data) < _HEADER.size:
        raise Malformed(f"IPv4: {len(data)} octets, a header has {_HEADER.size}", 0)
    (
        version_and_length,
        type_of_service,
        total_length,
        identification,
        flags_and_offset,
        ttl,
        protocol,
        _,
        source,
        destination,
    ) = _HEADER.unpack_from(data)
    if version_and_length >> 4 != 4:
        raise Malformed(f"IPv4: version is {version_and_length >> 4}", 0)
    header_length = (version_and_length & 0x0F) * 4
    if header_length < _HEADER.size:
        raise Malformed(f"IPv4: header length is {header_length}, under {_HEADER.size}", 0)
    if not header_length <= total_length <= len(data):
        raise Malformed(f"IPv4: total length is {total_length}, of {len(data)} octets here", 2)
    if internet_checksum(data[:header_length]) != 0:
        raise Malformed("IPv4: header checksum is wrong", 10)
    return Ipv4Packet(
        IPv4Address(source),
        IPv4Address(destination),
        protocol,
        data[header_length:total_length],
        ttl,
        type_of_service,
        identification,
        flags_and_offset,
        data[_HEADER.size : header_length],
    )


def encode(packet: Ipv4Packet) -> bytes:
    """The packet's bytes. Raises ValueError when options or payload do not fit."""
    if len(packet.options) % 4 or len(packet.options) > 40:
        raise ValueError("IPv4 options are up to 40 octets, in fours (RFC 791 §3.1)")
    header_length = 20 + len(packet.options)
    total_length = header_length + len(packet.payload)
    if total_length > 0xFFFF:
        raise ValueError(f"an IPv4 packet has at most 65535 octets, not {total_length}")
    fixed = _HEADER.pack(
        0x40 | header_length // 4,
        packet.type_of_service,
        total_length,
        packet.identification,
        packet.flags_and_offset,
        packet.ttl,
        packet.protocol,
        0,
        packet.source.packed,
        packet.destination.packed,
    )
    header = fixed + packet.options
    checksum = internet_checksum(header).to_bytes(2, "big")
    return header[:10] + checksum + header[12:] + packet.payload
