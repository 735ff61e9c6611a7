"""Ethernet II frames (IEEE 802.3-2018 §3.1, the Length/Type field used as a type)."""

from __future__ import annotations

from typing import NamedTuple

from portcall.core.address import Mac
from portcall.core.wire.octets import Malformed

ETHERTYPE_IPV4 = 0x0800
ETHERTYPE_ARP = 0x0806
ETHERTYPE_TAG = 0x8100

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
    if frame.ethertype != ETHERTYPE_TAG:
        return frame
    if len(frame.payload) < 4:
        raise Malformed("Ethernet: a tag and nothing after it", _HEADER)
    ethertype = int.from_bytes(frame.payload[2:4], "big")
    return EthernetFrame(frame.destination, frame.source, ethertype, frame.payload[4:])


def encode(frame: EthernetFrame) -> bytes:
    """The frame's bytes, as ``parse`` takes them."""
    ethertype = frame.ethertype.to_bytes(2, "big")
    return b"".join((frame.destination, frame.source, ethertype, frame.payload))
