"""The workstation's adapters, their addresses and routes, as Windows has them now."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from ipaddress import IPv4Address, IPv4Interface

from portcall.core.adapters.adapter import (
    Adapter,
    AdapterAddress,
    AdapterKind,
    LinkCounters,
    Origin,
    Route,
)
from portcall.core.adapters.way_out import WayOut
from portcall.core.address import LIMITED_BROADCAST, SELF_ASSIGNED, Mac
from portcall.host.windows import tables
from portcall.host.windows.tables import AdapterSeen, AddressSeen, RouteSeen

_UP = 1
_DISCONNECTED = 2
_ETHERNET, _LOOPBACK, _WIRELESS, _TUNNEL, _PPP = 6, 24, 71, 131, 23
_KINDS = {
    _ETHERNET: AdapterKind.WIRED,
    _LOOPBACK: AdapterKind.LOOPBACK,
    _WIRELESS: AdapterKind.WIRELESS,
    _TUNNEL: AdapterKind.TUNNEL,
    _PPP: AdapterKind.TUNNEL,
}
BY_DHCP = 3
"""Of addresses: a server gave it (NL_PREFIX_ORIGIN)."""
_LOCAL = 2
"""Of routes: Windows made it for an address of its own (MIB_IPPROTO_LOCAL)."""
_WHOLE = 32


def read_adapters(matched: Iterable[tuple[str, IPv4Interface]] = ()) -> tuple[Adapter, ...]:
    """All adapters as Windows has them now, in the order of its own numbers.

    ``matched`` are the addresses that match added, by adapter name, so that they are named so.
    """
    ours, ways = set(matched), tables.routes()
    found = sorted(tables.adapters(), key=lambda each: each.index)
    return tuple(_adapter(each, ways, ours) for each in found)


def _adapter(
    seen: AdapterSeen, ways: Sequence[RouteSeen], ours: set[tuple[str, IPv4Interface]]
) -> Adapter:
    kind, plug = _KINDS.get(seen.kind, AdapterKind.VIRTUAL), tables.link(seen.index)
    if kind is AdapterKind.WIRED and plug is not None and not plug.is_hardware:
        kind = AdapterKind.VIRTUAL
    return Adapter(
        seen.name,
        seen.index,
        kind,
        Mac(seen.mac) if len(seen.mac) == 6 and any(seen.mac) else None,
        True,
        _has_link(seen),
        seen.mtu,
        None if seen.bits is None else seen.bits // 1_000_000,
        None,
        tuple(_address(each, seen.name, ours) for each in seen.addresses),
        tuple(_route(each, seen) for each in ways if each.index == seen.index and leads(each)),
        guid=seen.guid,
    )


def _has_link(seen: AdapterSeen) -> bool:
    plug = tables.link(seen.index)
    return seen.status == _UP and (plug is None or plug.connected != _DISCONNECTED)


def _address(seen: AddressSeen, name: str, ours: set[tuple[str, IPv4Interface]]) -> AdapterAddress:
    origin = Origin.STATIC
    if (name, seen.interface) in ours:
        origin = Origin.MATCHED
    elif seen.interface.ip in SELF_ASSIGNED:
        origin = Origin.LINK_LOCAL
    elif seen.origin == BY_DHCP:
        origin = Origin.DYNAMIC
    return AdapterAddress(seen.interface, origin, seen.seconds_left)


def leads(way: RouteSeen) -> bool:
    """Whether a route is one of the kind that people make, and not to an address of our own or to
    everybody at once."""
    net = way.destination
    return not (
        net.is_multicast
        or net.network_address == LIMITED_BROADCAST
        or (net.prefixlen == _WHOLE and way.gateway is None)
    )


def _route(way: RouteSeen, seen: AdapterSeen) -> Route:
    own = any(each.interface.network == way.destination for each in seen.addresses)
    of_subnet = way.gateway is None and (own or way.protocol == _LOCAL)
    return Route(way.destination, way.index, way.gateway, of_subnet)


def name_servers() -> tuple[str, ...]:
    """The name servers in force, of all adapters that have a link."""
    there = (each for each in tables.adapters() if each.status == _UP)
    return tuple(dict.fromkeys(server for each in there for server in each.name_servers))[:8]


def leaves_by(target: IPv4Address) -> str | None:
    """The name of the adapter by which Windows would send to ``target`` now, or None."""
    return way_out(target).adapter


def way_out(target: IPv4Address, port: int | None = None) -> WayOut:
    """The way that a packet to ``target`` would take now: the narrowest route, of those the one of
    the least metric (RFC 1812 §5.2.4.3), by an adapter that has a link. No rule is about a ``port``
    alone there."""
    there = {each.index: each for each in tables.adapters()}
    if any(own.interface.ip == target for each in there.values() for own in each.addresses):
        return WayOut(own=True)
    fitting = [
        way
        for way in tables.routes()
        if target in way.destination
        and way.index in there
        and _has_link(there[way.index])
        and there[way.index].kind != _LOOPBACK
    ]
    if not fitting:
        return WayOut(refused="network is unreachable")
    best = min(fitting, key=lambda way: (-way.destination.prefixlen, way.metric))
    adapter = there[best.index]
    first = best.gateway or target
    own = [each.interface for each in adapter.addresses]
    near = next((each for each in own if first in each.network), own[0] if own else None)
    return WayOut(adapter.name, near.ip if near else None, best.gateway)


def link_counters(name: str) -> LinkCounters:
    """What an adapter received with errors; Windows does not tell how often a link was lost."""
    index = next((each.index for each in tables.adapters() if each.name == name), 0)
    plug = tables.link(index)
    return LinkCounters(None, plug.errors if plug is not None else 0)


def managed_by(adapter: Adapter) -> str | None:
    """None: nothing there takes an address off that it did not add."""
    return None
