"""The kernel's own ARP table: who it found for an address when something was sent there.

Any user may have something sent, and read the table; the kernel does the asking (arp(7)).
"""

from __future__ import annotations

import socket
import struct
from collections.abc import Iterable
from contextlib import suppress
from ipaddress import IPv4Address

from portcall.core.address import Mac
from portcall.host.linux.rtnetlink import Message, MessageKind, NeighbourAttribute, Netlink
from portcall.host.linux.sockets import bind_to_adapter

_DISCARD = 9
"""A port whose service throws away what it gets (RFC 863)."""

_MESSAGE = struct.Struct("=BxxxiHBB")
_CONFIRMED = 0x02 | 0x04 | 0x08 | 0x10
"""Reachable, stale, delay, probe: it has answered, now or a while ago (linux/neighbour.h)."""


_PERMANENT = 0x80


def provoke(adapter: str, addresses: Iterable[IPv4Address]) -> None:
    """Send an empty datagram to each, so that the kernel asks who it is."""
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as sock, suppress(OSError):
        bind_to_adapter(sock, adapter)
        for address in addresses:
            with suppress(OSError):
                sock.sendto(b"", (str(address), _DISCARD))


def known_neighbours(adapter: str) -> dict[IPv4Address, Mac]:
    """The neighbours that have answered the kernel on an adapter; none where it is gone."""
    return _neighbours(adapter, _CONFIRMED)


def fixed_neighbours(adapter: str) -> dict[IPv4Address, Mac]:
    """The neighbours that somebody wrote into the table for good; none where it is gone."""
    return _neighbours(adapter, _PERMANENT)


def fix_neighbour(adapter: str, address: IPv4Address, mac: Mac) -> None:
    """Write a MAC for an address into the table, for good. Raises OSError."""
    with Netlink() as netlink:
        netlink.put(_entry(MessageKind.NEW_NEIGHBOUR, adapter, address, mac), again=True)


def forget_neighbour(adapter: str, address: IPv4Address) -> None:
    """Take what the table has for an address out of it. Raises OSError."""
    with Netlink() as netlink:
        netlink.put(_entry(MessageKind.DELETE_NEIGHBOUR, adapter, address, None))


def _entry(kind: MessageKind, adapter: str, address: IPv4Address, mac: Mac | None) -> Message:
    index = socket.if_nametoindex(adapter)
    fixed = _MESSAGE.pack(socket.AF_INET, index, _PERMANENT, 0, 0)
    told = [(NeighbourAttribute.ADDRESS, address.packed)]
    if mac is not None:
        told.append((NeighbourAttribute.MAC, mac.octets))
    return Message(kind, fixed, tuple(told))


def _neighbours(adapter: str, states: int) -> dict[IPv4Address, Mac]:
    try:
        index = socket.if_nametoindex(adapter)
    except OSError:
        # An adapter that was pulled out meanwhile has no neighbours.
        return {}
    with Netlink() as netlink:
        found = netlink.dump(MessageKind.GET_NEIGHBOUR, _MESSAGE.pack(socket.AF_INET, 0, 0, 0, 0))
    known = {}
    for message in found:
        _, on, state, _, _ = _MESSAGE.unpack(message.fixed)
        address, mac = (
            message.get(number) for number in (NeighbourAttribute.ADDRESS, NeighbourAttribute.MAC)
        )
        if on == index and state & states and address and mac and len(mac) == 6:
            known[IPv4Address(address)] = Mac(mac)
    return known
