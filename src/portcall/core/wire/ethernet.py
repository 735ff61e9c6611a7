"""Ethernet II frames (IEEE 802.3-2018 §3.1, the Length/Type field used as a type)."""

from __future__ import annotations

from enum import IntEnum
from typing import NamedTuple

from portcall.core.address import Mac
from portcall.core.wire.octets import Malformed


class EtherType(IntEnum):
    """The contents of a frame (IEEE 802 numbers, kept by the IEEE Registration Authority)."""

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


SENDER = slice(6, 12)
"""Where a frame has its sender's MAC."""

_HEADER = 14
_TAG_SIZE = 4
_TAGS = (b"\x81\x00", b"\x88\xa8")
"""The customer's tag and the service provider's."""

_MOST_TAGS = 2
_VLAN_NUMBER = 0x0FFF


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
    """Read a frame of this wire, passing over a priority tag; one of a VLAN keeps its tag.

    Raises Malformed.
    """
    plain, vlan = without_tags(data)
    return parse(plain if vlan is None else data)


def without_tags(data: bytes) -> tuple[bytes, int | None]:
    """A frame without its VLAN and priority tags, and the number of its VLAN.

    None is the wire itself, without a VLAN. A frame in a VLAN of another (IEEE 802.1Q §9.6, the
    service tag) is in the outer one. Never raises: a frame that ends in a tag is given as it is.
    """
    vlan, plain = None, data
    for _ in range(_MOST_TAGS):
        if plain[12:14] not in _TAGS or len(plain) < _HEADER + _TAG_SIZE:
            break
        number = int.from_bytes(plain[14:16], "big") & _VLAN_NUMBER
        vlan = vlan or number or None
        plain = plain[:12] + plain[12 + _TAG_SIZE :]
    return plain, vlan


def encode(frame: EthernetFrame) -> bytes:
    """The frame's bytes, as ``parse`` takes them."""
    ethertype = frame.ethertype.to_bytes(2, "big")
    return b"".join((frame.destination, frame.source, ethertype, frame.payload))
