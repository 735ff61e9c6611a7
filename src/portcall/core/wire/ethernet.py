"""Ethernet II frames (IEEE 802.3-2018 §3.1, the Length/Type field used as a type)."""

from __future__ import annotations

from dataclasses import dataclass

from portcall.core.address import Mac
from portcall.core.wire.octets import Reader

ETHERTYPE_IPV4 = 0x0800
ETHERTYPE_ARP = 0x0806
ETHERTYPE_TAG = 0x8100

SHORTEST_PAYLOAD = 46
"""IEEE 802.3-2018 §3.2.8: shorter payloads are padded; the adapter does that on the way out."""


@dataclass(frozen=True, slots=True)
class EthernetFrame:
    """A frame without preamble and check sequence; the payload may end in padding."""

    destination: Mac
    source: Mac
    ethertype: int
    payload: bytes


def parse(data: bytes) -> EthernetFrame:
    """Read a frame. Raises Malformed when it is shorter than its header."""
    reader = Reader(data, "Ethernet")
    return EthernetFrame(reader.mac(), reader.mac(), reader.u16(), reader.rest())


def parse_untagged(data: bytes) -> EthernetFrame:
    """Read a frame, passing over a VLAN or priority tag (IEEE 802.1Q §9.6). Raises Malformed."""
    reader = Reader(data, "Ethernet")
    destination, source, ethertype = reader.mac(), reader.mac(), reader.u16()
    if ethertype == ETHERTYPE_TAG:
        reader.u16()
        ethertype = reader.u16()
    return EthernetFrame(destination, source, ethertype, reader.rest())


def encode(frame: EthernetFrame) -> bytes:
    """The frame's bytes, as ``parse`` takes them."""
    return (
        frame.destination.octets
        + frame.source.octets
        + frame.ethertype.to_bytes(2, "big")
        + frame.payload
    )
