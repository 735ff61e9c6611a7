"""IPv4 packets (RFC 791 §3.1)."""

from __future__ import annotations

from dataclasses import dataclass
from ipaddress import IPv4Address

from portcall.core.wire.octets import Reader, internet_checksum

PROTOCOL_ICMP = 1
PROTOCOL_TCP = 6
PROTOCOL_UDP = 17
_MORE_FRAGMENTS_OR_OFFSET = 0x3FFF


@dataclass(frozen=True, slots=True)
class Ipv4Packet:
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
    reader = Reader(data, "IPv4")
    version_and_length = reader.u8()
    if version_and_length >> 4 != 4:
        raise reader.wrong(f"version is {version_and_length >> 4}")
    header_length = (version_and_length & 0x0F) * 4
    if header_length < 20:
        raise reader.wrong(f"header length is {header_length}, under 20")
    type_of_service = reader.u8()
    total_length = reader.u16()
    if not header_length <= total_length <= len(data):
        raise reader.wrong(f"total length is {total_length}, of {len(data)} octets here")
    identification, flags_and_offset = reader.u16(), reader.u16()
    ttl, protocol = reader.u8(), reader.u8()
    reader.u16()
    source, destination = reader.address(), reader.address()
    options = reader.take(header_length - 20)
    if internet_checksum(data[:header_length]) != 0:
        raise reader.wrong("header checksum is wrong")
    return Ipv4Packet(
        source,
        destination,
        protocol,
        reader.take(total_length - header_length),
        ttl,
        type_of_service,
        identification,
        flags_and_offset,
        options,
    )


def encode(packet: Ipv4Packet) -> bytes:
    """The packet's bytes. Raises ValueError when options or payload do not fit."""
    if len(packet.options) % 4 or len(packet.options) > 40:
        raise ValueError("IPv4 options are up to 40 octets, in fours (RFC 791 §3.1)")
    header_length = 20 + len(packet.options)
    total_length = header_length + len(packet.payload)
    if total_length > 0xFFFF:
        raise ValueError(f"an IPv4 packet has at most 65535 octets, not {total_length}")
    header = b"".join(
        (
            bytes((0x40 | header_length // 4, packet.type_of_service)),
            total_length.to_bytes(2, "big"),
            packet.identification.to_bytes(2, "big"),
            packet.flags_and_offset.to_bytes(2, "big"),
            bytes((packet.ttl, packet.protocol)),
            b"\0\0",
            packet.source.packed,
            packet.destination.packed,
            packet.options,
        )
    )
    checksum = internet_checksum(header).to_bytes(2, "big")
    return header[:10] + checksum + header[12:] + packet.payload
