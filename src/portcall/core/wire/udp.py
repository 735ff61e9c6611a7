"""UDP over IPv4 (RFC 768), alone and as whole Ethernet frames.

Address assignment needs whole frames: a device without an address can only be told one at its
MAC, and the frame's source MAC says who asked.
"""

from __future__ import annotations

import struct
from ipaddress import IPv4Address
from typing import NamedTuple

from portcall.core.address import Mac
from portcall.core.wire import ethernet, ipv4
from portcall.core.wire.ethernet import EtherType
from portcall.core.wire.octets import Malformed, internet_checksum

_HEADER = struct.Struct("!HHHH")
_CHECKSUM = slice(40, 42)
_PAYLOAD = 42
"""In a frame without IP options."""
_IPV4 = EtherType.IPV4.octets


class UdpDatagram(NamedTuple):
    """A datagram between two ports."""

    source_port: int
    destination_port: int
    payload: bytes


class UdpFrame(NamedTuple):
    """A datagram with all that carried it over the link."""

    source_mac: Mac
    destination_mac: Mac
    source: IPv4Address
    destination: IPv4Address
    datagram: UdpDatagram


def _pseudo_header(source: IPv4Address, destination: IPv4Address, length: int) -> bytes:
    return (
        source.packed
        + destination.packed
        + bytes((0, ipv4.PROTOCOL_UDP))
        + length.to_bytes(2, "big")
    )


def parse(data: bytes, source: IPv4Address, destination: IPv4Address) -> UdpDatagram:
    """Read a datagram. Raises Malformed for a length that lies or a wrong checksum.

    A checksum of zero says that the sender made none (RFC 768), which old devices do.
    """
    if len(data) < _HEADER.size:
        raise Malformed(f"UDP: {len(data)} octets, a header has {_HEADER.size}", 0)
    source_port, destination_port, length, checksum = _HEADER.unpack_from(data)
    if not _HEADER.size <= length <= len(data):
        raise Malformed(f"UDP: length is {length}, of {len(data)} octets here", 4)
    if checksum:
        whole = _pseudo_header(source, destination, length) + data[:length]
        if internet_checksum(whole) != 0:
            raise Malformed("UDP: checksum is wrong", 6)
    return UdpDatagram(source_port, destination_port, data[_HEADER.size : length])


def encode(datagram: UdpDatagram, source: IPv4Address, destination: IPv4Address) -> bytes:
    """The datagram's bytes, with checksum."""
    length = 8 + len(datagram.payload)
    if length > 0xFFFF:
        raise ValueError(f"a UDP datagram has at most 65535 octets, not {length}")
    ports = datagram.source_port, datagram.destination_port
    header = _HEADER.pack(*ports, length, 0)
    whole = _pseudo_header(source, destination, length) + header + datagram.payload
    # RFC 768: a computed zero is sent as all ones, since zero says "no checksum".
    checksum = internet_checksum(whole) or 0xFFFF
    return _HEADER.pack(*ports, length, checksum) + datagram.payload


def parse_frame(data: bytes) -> UdpFrame:
    """Read an Ethernet frame that carries a whole UDP datagram over IPv4, or raise Malformed."""
    if data[12:14] != _IPV4:
        raise Malformed(f"EtherType is 0x{data[12:14].hex()}, not IPv4", 12)
    packet = ipv4.parse(data[14:])
    if packet.protocol != ipv4.PROTOCOL_UDP or packet.is_fragment:
        raise Malformed("not a whole UDP datagram", 14)
    datagram = parse(packet.payload, packet.source, packet.destination)
    source, destination = Mac(data[6:12]), Mac(data[:6])
    return UdpFrame(source, destination, packet.source, packet.destination, datagram)


def encode_frame(frame: UdpFrame) -> bytes:
    """The frame's bytes, ready for the link."""
    packet = ipv4.Ipv4Packet(
        frame.source,
        frame.destination,
        ipv4.PROTOCOL_UDP,
        encode(frame.datagram, frame.source, frame.destination),
    )
    return ethernet.encode(
        ethernet.EthernetFrame(
            frame.destination_mac,
            frame.source_mac,
            EtherType.IPV4,
            ipv4.encode(packet),
        )
    )


def with_changed(frame: bytes, at: int, number: int) -> bytes:
    """A frame as ``encode_frame`` makes it, with a 32-bit number of its payload changed.

    ``at`` is even, and counted from the payload's start. The checksum follows from the old one
    (RFC 1624 §3); as there, adding with carry is adding modulo 65535.
    """
    start = _PAYLOAD + at
    old = int.from_bytes(frame[start : start + 4], "big")
    total = ((int.from_bytes(frame[_CHECKSUM], "big") ^ 0xFFFF) + number - old) % 0xFFFF
    checksum = (total ^ 0xFFFF).to_bytes(2, "big")
    changed = number.to_bytes(4, "big")
    return b"".join(
        (frame[: _CHECKSUM.start], checksum, frame[_PAYLOAD:start], changed, frame[start + 4 :])
    )
