"""Ethernet II frames (IEEE 802.3-2018 §3.1, the Length/Type field used as a type)."""

from __future__ import annotations

from enum import IntEnum
from typing import NamedTuple

from portcall.core.address import Mac
from portcall.core.wire.octets import Malformed


class EtherType(IntEnum):
    """What a frame carries (IEEE 802 numbers, kept by the IEEE Registration Authority)."""

    IPV4 = 0x0800
    ARP = 0x0806
    TAG = 0x8100
    """A VLAN or priority tag, and behind it another EtherType (IEEE 802.1Q §9.6)."""
    IPV6 = 0x86DD
    PROFINET = 0x8892
    """DCP is one of the protocols in it."""
    LLDP = 0x88CC

    @property
    def octets(self) -> bytes:
        """As it stands in a frame's header."""
        return self.to_bytes(2, "big")


SHORTEST_PAYLOAD = 46
"""IEEE 802.3-2018 §3.2.8: shorter payloads are padded; the adapter does that on the way out."""


_HEADER = 14


class EthernetFrame(NamedTuple):
    """A frame without preamble and check sequence; the payload may end in padding."""

    destination: Mac
    source: Mac
    ethertype: int
    payload: bytes


def parse(data: bytes) -> EthernetFrame:
    """Read a frame. Raises Malformed when it is shorter than its header."""
    if len(data) < _HEADER:
        raise Malformed(f"Ethernet: {len(data)} octets, a header has {_HEADER}", 0)
    ethertype = int.from_bytes(data[12:_HEADER], "big")
    return EthernetFrame(Mac(data[:6]), Mac(data[6:12]), ethertype, data[_HEADER:])


def parse_untagged(data: bytes) -> EthernetFrame:
    """Read a frame, passing over a VLAN or priority tag (IEEE 802.1Q §9.6). Raises Malformed."""
    frame = parse(data)
    if frame.ethertype != EtherType.TAG:
        return frame
    if len(frame.payload) < 4:
        raise Malformed("Ethernet: a tag and nothing after it", _HEADER)
    ethertype = int.from_bytes(frame.payload[2:4], "big")
    return EthernetFrame(frame.destination, frame.source, ethertype, frame.payload[4:])


def encode(frame: EthernetFrame) -> bytes:
    """The frame's bytes, as ``parse`` takes them."""
    ethertype = frame.ethertype.to_bytes(2, "big")
    return b"".join((frame.destination, frame.source, ethertype, frame.payload))
