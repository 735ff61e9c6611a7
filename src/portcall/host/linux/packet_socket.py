"""Linux packet sockets, beyond Python's ``socket`` module (packet(7)).

The kernel takes a VLAN tag off before a packet socket sees the frame, and tells it beside it.
"""

from __future__ import annotations

import socket
import struct

ETH_P_ALL = 0x0003
"""Frames of every EtherType (linux/if_ether.h)."""

SOL_PACKET = 263
"""The level of the options below (socket.h)."""

PACKET_STATISTICS = 6
"""Frames that passed the filter, and how many of them found no room; reading sets both to zero."""

PACKET_AUXDATA = 8
"""Have the kernel tell a frame's status along with it."""

PACKET_VNET_HDR = 15
"""Give every frame, and take it, with a header that says what the kernel has still to do on it."""

VNET_HEADER = 10
"""Octets of that header (struct virtio_net_hdr)."""

PACKET_IGNORE_OUTGOING = 23
"""Do not hear what this computer sends."""

PACKET_OUTGOING = 4
"""The type of a frame that goes out (linux/if_packet.h)."""

PACKET_ADD_MEMBERSHIP = 1
_EVERYTHING, _ALL_GROUPS = 1, 2
"""PACKET_MR_PROMISC, PACKET_MR_ALLMULTI."""

AUXILIARY = struct.Struct("I 12x HH")
"""Of struct tpacket_auxdata: the status, and the tag's control information and EtherType."""

STATUS_TAGGED, _STATUS_TAG_TYPE = 1 << 4, 1 << 6
"""TP_STATUS_VLAN_VALID and TP_STATUS_VLAN_TPID_VALID."""

VLAN_NUMBER = 0x0FFF
_TAG = 0x8100
_MACS = 12


def hear_groups(sock: socket.socket, adapter: str) -> None:
    """Have an adapter pass frames to every group address while this socket is open.

    Most adapters pass only those of the groups that some program here has joined. Raises OSError.
    """
    _join(sock, adapter, _ALL_GROUPS)


def hear_everything(sock: socket.socket, adapter: str) -> None:
    """Have an adapter pass frames to whomever while this socket is open. Raises OSError."""
    _join(sock, adapter, _EVERYTHING)


def _join(sock: socket.socket, adapter: str, what: int) -> None:
    request = struct.pack("iHH8x", socket.if_nametoindex(adapter), what, 0)
    sock.setsockopt(SOL_PACKET, PACKET_ADD_MEMBERSHIP, request)


def with_tag(data: bytes, status: int, control: int, ethertype: int) -> bytes:
    """A frame as it was on the wire, with the tag that the kernel took off."""
    if not status & STATUS_TAGGED:
        return data
    kind = ethertype if status & _STATUS_TAG_TYPE else _TAG
    return data[:_MACS] + struct.pack("!HH", kind, control) + data[_MACS:]
