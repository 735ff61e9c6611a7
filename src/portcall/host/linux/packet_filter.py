"""A packet filter for the practice plant: what a firewall drops or refuses (nf_tables).

Called inside the namespace meant, by way of ``NetworkNamespace.call``.
"""

from __future__ import annotations

import socket
from dataclasses import dataclass
from enum import Enum
from ipaddress import IPv4Address
from typing import Any

from pyroute2.netlink.exceptions import NetlinkError
from pyroute2.nftables.expressions import genex, verdict
from pyroute2.nftables.main import NFTables

from portcall.core.trouble import NotPossibleHere

_DROP = 0
_TCP_RESET = 1
_NETWORK_HEADER, _TRANSPORT_HEADER = 1, 2
_PROTOCOL, _SOURCE, _DESTINATION = 9, 12, 16
_DESTINATION_PORT = 2


class Way(Enum):
    """Which packets a filter sees."""

    IN = "input"
    OUT = "output"


@dataclass(frozen=True, slots=True)
class Filtered:
    """Which packets are dropped: of an address (the other side's), to a TCP port, or all.

    ``refuse``: a TCP reset goes back instead.
    """

    way: Way
    address: IPv4Address | None = None
    port: int | None = None
    refuse: bool = False


def add_filter(name: str, filtered: Filtered) -> None:
    """Have packets dropped from now on. Raises NotPossibleHere where the kernel has no filter."""
    expressions: list[Any] = []
    if filtered.address is not None:
        offset = _SOURCE if filtered.way is Way.IN else _DESTINATION
        expressions += _equals(_NETWORK_HEADER, offset, filtered.address.packed)
    if filtered.port is not None:
        expressions += _equals(_NETWORK_HEADER, _PROTOCOL, bytes((socket.IPPROTO_TCP,)))
        port = filtered.port.to_bytes(2, "big")
        expressions += _equals(_TRANSPORT_HEADER, _DESTINATION_PORT, port)
    end = [genex("reject", {"type": _TCP_RESET})] if filtered.refuse else verdict(code=_DROP)
    try:
        with NFTables(nfgen_family=socket.AF_INET) as tables:
            tables.table("add", name=name)
            hook = filtered.way.value
            tables.chain("add", table=name, name=hook, hook=hook, type="filter", policy=1)
            tables.rule("add", table=name, chain=hook, expressions=(*_listed(expressions), end))
    except (NetlinkError, OSError) as error:
        raise NotPossibleHere(
            f"this kernel has no packet filter to practise with: {error}"
        ) from None


def remove_filter(name: str) -> None:
    """Let the packets pass again."""
    with NFTables(nfgen_family=socket.AF_INET) as tables:
        tables.table("del", name=name)


def _equals(header: int, offset: int, value: bytes) -> list[Any]:
    load = {"dreg": 1, "base": header, "offset": offset, "len": len(value)}
    compare = {"sreg": 1, "op": 0, "data": {"attrs": [("NFTA_DATA_VALUE", value)]}}
    return [genex("payload", load), genex("cmp", compare)]


def _listed(expressions: list[Any]) -> list[list[Any]]:
    return [expressions] if expressions else []
