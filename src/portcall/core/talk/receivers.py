"""The receiver of a packet, by which its share of the pace is counted."""

from __future__ import annotations

from collections.abc import Hashable
from ipaddress import IPv4Address
from typing import Any

from portcall.core.address import LIMITED_BROADCAST
from portcall.core.talk.conversation import Datagram, Frame, IcmpPacket
from portcall.core.talk.door_knock import Knock
from portcall.core.talk.pacer import EVERYBODY
from portcall.core.wire.ethernet import EtherType

_IPV4 = int(EtherType.IPV4).to_bytes(2, "big")
HEADERS = 34
"""Octets of an Ethernet and an IPv4 header: as many tell whom a frame is for."""


def of_frame(data: bytes) -> Hashable:
    """The receiver of a frame: everybody, an IPv4 address or a MAC, by their octets."""
    if data[0] & 1:
        return EVERYBODY
    if data[12:14] == _IPV4 and len(data) >= HEADERS:
        return data[30:34]
    return data[:6]


def of_packet(packet: Any, peer: IPv4Address | None) -> Hashable | None:
    """The receiver of a packet; ``peer`` is the other side of a medium that has only one.

    None when neither says.
    """
    if isinstance(packet, Frame):
        return of_frame(packet.data)
    if isinstance(packet, Datagram):
        address = packet.peer.address
    elif isinstance(packet, IcmpPacket):
        address = packet.peer
    elif isinstance(packet, Knock):
        address = packet.door.address
    elif peer is not None:
        address = peer
    else:
        return None
    if address.is_multicast or address == LIMITED_BROADCAST:
        return EVERYBODY
    return address.packed


def is_resolved_first(packet: Any) -> bool:
    """Whether the kernel has to ask everybody for the receiver's MAC, the first time."""
    return not isinstance(packet, Frame)


def room_for(packet: Any) -> int:
    """How many packets follow at once, with this one.

    The kernel completes a connection and acknowledges what comes by it; whoever asked closes it.
    """
    return 1 if isinstance(packet, Frame | Datagram | IcmpPacket) else _OF_A_STREAM


_OF_A_STREAM = 6
