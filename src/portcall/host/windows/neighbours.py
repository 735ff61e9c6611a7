"""Windows' own ARP table: who it found for an address when something was sent there."""

from __future__ import annotations

import socket
from collections.abc import Iterable
from contextlib import suppress
from ipaddress import IPv4Address

from portcall.core.address import Mac
from portcall.host.windows import tables

_DISCARD = 9
"""A port whose service throws away what it gets (RFC 863)."""

_CONFIRMED = (2, 3, 4, 5)
"""Probe, delay, stale, reachable: it has answered, now or a while ago (NL_NEIGHBOR_STATE)."""

_PERMANENT = 6


def provoke(adapter: str, addresses: Iterable[IPv4Address]) -> None:
    """Send an empty datagram to each from this adapter, so that Windows asks who it is."""
    own = [
        a.interface for each in tables.adapters() if each.name == adapter for a in each.addresses
    ]
    for address in addresses:
        near = next((each for each in own if address in each.network), None)
        if near is None:
            continue
        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as sock, suppress(OSError):
            sock.bind((str(near.ip), 0))
            sock.sendto(b"", (str(address), _DISCARD))


def known_neighbours(adapter: str) -> dict[IPv4Address, Mac]:
    """The neighbours that have answered on an adapter; none where it is gone."""
    return _neighbours(adapter, _CONFIRMED)


def fixed_neighbours(adapter: str) -> dict[IPv4Address, Mac]:
    """The neighbours that somebody wrote into the table for good; none where it is gone."""
    return _neighbours(adapter, (_PERMANENT,))


def _neighbours(adapter: str, states: Iterable[int]) -> dict[IPv4Address, Mac]:
    index = next((each.index for each in tables.adapters() if each.name == adapter), None)
    return {
        each.address: Mac(each.mac)
        for each in tables.neighbours()
        if each.index == index and each.state in states and len(each.mac) == 6 and any(each.mac)
    }
