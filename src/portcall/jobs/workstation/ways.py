"""Which addresses are this computer's own, and by which way other programs reach the rest.

What this tool sends leaves by the chosen adapter, whatever the routes say. Other programs follow
the routes.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from ipaddress import IPv4Address

from portcall.core.adapters.adapter import Adapter
from portcall.core.counted import named
from portcall.core.finding import Finding
from portcall.core.reach.sentences import ONESELF
from portcall.host.adapters import way_out
from portcall.jobs.workstation.adapters import adapters_now

_MOST = 256
"""Addresses that the kernel is asked about: more are in the same subnets."""
_MOST_NAMED = 3


@dataclass(frozen=True, slots=True)
class OtherWay:
    """Packets of other programs to some addresses leave by another adapter than the chosen one."""

    chosen: str
    leaves_by: str
    addresses: tuple[IPv4Address, ...]

    def __str__(self) -> str:
        way = "what they send leaves by " + self.leaves_by
        if self.leaves_by == NOT_AT_ALL:
            way = "a route or rule of this computer keeps what they send"
        return (
            f"other programs do not use {self.chosen} for {named(self.addresses, _MOST_NAMED)}: "
            f"{way}; portcall why {self.addresses[0]} says what takes it"
        )


NOT_AT_ALL = "no adapter"
"""The way of what the kernel refuses to send, or keeps to itself."""


def own_addresses() -> dict[IPv4Address, str]:
    """Every address of this computer, with the adapter that has it."""
    return {own.ip: each.name for each in adapters_now() for own in each.interfaces}


def own_address_finding(address: IPv4Address, adapter: str) -> Finding:
    """Why nothing is asked at one of this computer's own addresses."""
    return ONESELF(address=address, adapter=adapter)


def other_ways(adapter: Adapter, addresses: Iterable[IPv4Address]) -> dict[IPv4Address, str]:
    """The addresses that other programs do not reach by this adapter, and by which they do."""
    found = {}
    for address, _ in zip(dict.fromkeys(addresses), range(_MOST), strict=False):
        way = way_out(address).adapter or NOT_AT_ALL
        if way != adapter.name:
            found[address] = way
    return found


def told_ways(adapter: Adapter, found: Mapping[IPv4Address, str]) -> list[OtherWay]:
    """A fact for each adapter that takes some of them."""
    by: dict[str, list[IPv4Address]] = {}
    for address, way in found.items():
        by.setdefault(way, []).append(address)
    return [OtherWay(adapter.name, way, tuple(taken)) for way, taken in by.items()]
