"""The workstation's adapters, their addresses and routes, as the kernel has them.

Through netlink, ethtool's ioctl for speed and duplex, and sysfs for what is wireless. Values are of
the calling thread's network namespace.
"""

from __future__ import annotations

import socket
import struct
from collections.abc import Iterable
from ipaddress import IPv4Address, IPv4Interface, IPv4Network
from pathlib import Path

from portcall.core.adapters.adapter import (
    Adapter,
    AdapterAddress,
    AdapterKind,
    LinkCounters,
    Origin,
    Route,
)
from portcall.core.adapters.way_out import WayOut
from portcall.core.address import SELF_ASSIGNED, Mac
from portcall.host.linux.ethtool import speed_and_duplex
from portcall.host.linux.rtnetlink import (
    AddressAttribute,
    LinkAttribute,
    Message,
    MessageKind,
    Netlink,
    RouteAttribute,
    attributes,
)

_IFF_UP = 0x1
_IFF_LOOPBACK = 0x8
_IFF_LOWER_UP = 0x10000
_ARPHRD_ETHER = 1
_INFO_KIND = 1
"""The attribute inside a link's INFO that names what it is made of."""

_MAIN_TABLE = 254
_UNICAST_ROUTE = 1
_LOCAL_ROUTE = 2
_RECEIVE_ERRORS = struct.Struct("=32xQ")
"""Of struct rtnl_link_stats64."""

BY_KERNEL = 2
FOR_GOOD = 0xFFFFFFFF
"""A lifetime that does not end."""

_WAY = struct.Struct("=HBBi")
"""struct rtnexthop (linux/rtnetlink.h)."""

_TUNNELS = {"tun", "wireguard", "ipip", "gre", "sit", "vti", "xfrm", "ppp"}


def read_adapters(matched: Iterable[tuple[str, IPv4Interface]] = ()) -> tuple[Adapter, ...]:
    """All adapters as the kernel has them now, in the kernel's order.

    ``matched`` are the addresses that match added, by adapter name, so that they are named so.
    """
    ours = set(matched)
    with Netlink() as netlink:
        links = netlink.dump(MessageKind.GET_LINK, bytes(16))
        addresses = address_messages(netlink)
        routes = [route for message in route_messages(netlink) if (route := _route(message))]
    return tuple(_adapter(link, addresses, routes, ours) for link in links)


def address_messages(netlink: Netlink) -> tuple[Message, ...]:
    """All IPv4 addresses, in the order in which they were added."""
    return netlink.dump(MessageKind.GET_ADDRESS, struct.pack("=BBBBI", socket.AF_INET, 0, 0, 0, 0))


def route_messages(netlink: Netlink) -> tuple[Message, ...]:
    """The unicast routes of the main table."""
    return tuple(
        message
        for message in routes_of_all_tables(netlink)
        if (message.number(RouteAttribute.TABLE) or message.fixed[4]) == _MAIN_TABLE
    )


def routes_of_all_tables(netlink: Netlink) -> tuple[Message, ...]:
    """The unicast routes of every table."""
    found = netlink.dump(MessageKind.GET_ROUTE, struct.pack("=BBBBBBBBI", socket.AF_INET, *[0] * 8))
    return tuple(message for message in found if message.fixed[7] == _UNICAST_ROUTE)


def uses(route: Message, index: int) -> bool:
    """Whether a route leads by an adapter, alone or as one of several ways.

    Several ways are a list of struct rtnexthop, each with attributes behind it (rtnetlink(7)).
    """
    if route.number(RouteAttribute.OUT) == index:
        return True
    ways = route.get(RouteAttribute.MULTIPATH) or b""
    while len(ways) >= _WAY.size:
        length, _, _, out = _WAY.unpack_from(ways)
        if out == index:
            return True
        ways = ways[max(length + 3 & ~3, _WAY.size) :]
    return False


def _route(message: Message) -> Route | None:
    index = message.number(RouteAttribute.OUT)
    if index is None:
        return None
    destination, gateway = (
        message.get(RouteAttribute.DESTINATION),
        message.get(RouteAttribute.GATEWAY),
    )
    return Route(
        IPv4Network((destination or bytes(4), message.fixed[1])),
        index,
        IPv4Address(gateway) if gateway else None,
        message.fixed[5] == BY_KERNEL,
    )


def link_state(link: Message) -> tuple[bool, bool]:
    """Whether an adapter is switched on, and whether it has a link, as a link message says."""
    (flags,) = struct.unpack_from("=I", link.fixed, 8)
    return bool(flags & _IFF_UP), bool(flags & _IFF_UP and flags & _IFF_LOWER_UP)


def _adapter(
    link: Message,
    addresses: tuple[Message, ...],
    routes: list[Route],
    ours: set[tuple[str, IPv4Interface]],
) -> Adapter:
    _, hardware_type, index, flags, _ = struct.unpack("=BxHiII", link.fixed)
    name = link.text(LinkAttribute.NAME) or str(index)
    hardware = link.get(LinkAttribute.ADDRESS)
    is_ethernet = hardware_type == _ARPHRD_ETHER and hardware is not None and len(hardware) == 6
    speed, duplex = speed_and_duplex(name)
    return Adapter(
        name,
        index,
        _kind(link, name, index, flags, is_ethernet),
        Mac(hardware) if is_ethernet and hardware else None,
        *link_state(link),
        link.number(LinkAttribute.MTU) or 0,
        speed,
        duplex,
        tuple(_address(entry, name, ours) for entry in addresses if index_of(entry) == index),
        tuple(route for route in routes if route.adapter_index == index),
        _strict_about_sources(name),
    )


def index_of(address: Message) -> int:
    """The index of the adapter that has an address."""
    return int(struct.unpack("=BBBBI", address.fixed)[4])


def interface_of(address: Message) -> IPv4Interface:
    """An address with its mask."""
    local = address.get(AddressAttribute.LOCAL) or address.get(AddressAttribute.ADDRESS) or bytes(4)
    return IPv4Interface((local, address.fixed[1]))


def lifetime_of(address: Message) -> int | None:
    """How many seconds an address had left when it was read; None for good."""
    cache = address.get(AddressAttribute.CACHE)
    seconds = int.from_bytes(cache[4:8], "little") if cache and len(cache) >= 8 else FOR_GOOD
    return None if seconds == FOR_GOOD else seconds


def _address(entry: Message, name: str, ours: set[tuple[str, IPv4Interface]]) -> AdapterAddress:
    interface = interface_of(entry)
    seconds_left = lifetime_of(entry)
    if (name, interface) in ours:
        origin = Origin.MATCHED
    elif interface.ip in SELF_ASSIGNED:
        origin = Origin.LINK_LOCAL
    else:
        # A DHCP client gives an address a lifetime; one typed in has none.
        origin = Origin.STATIC if seconds_left is None else Origin.DYNAMIC
    return AdapterAddress(interface, origin, seconds_left)


def _kind(link: Message, name: str, index: int, flags: int, is_ethernet: bool) -> AdapterKind:
    if flags & _IFF_LOOPBACK:
        return AdapterKind.LOOPBACK
    info = dict(attributes(link.get(LinkAttribute.INFO) or b""))
    made_of = info.get(_INFO_KIND, b"").rstrip(b"\0").decode("ascii", "replace")
    if made_of in _TUNNELS or not is_ethernet:
        return AdapterKind.TUNNEL
    if made_of == "veth" and not link.number(LinkAttribute.MASTER):
        # The cable of a namespace or container, and all the wire there is in one. The other end
        # on its host is a port of a bridge and stays virtual.
        return AdapterKind.WIRED
    if made_of:
        return AdapterKind.VIRTUAL
    return AdapterKind.WIRELESS if _is_wireless(name, index) else AdapterKind.WIRED


def _is_wireless(name: str, index: int) -> bool:
    folder = Path("/sys/class/net") / name
    try:
        # sysfs shows the namespace it was mounted in: believe it only about the same adapter.
        same = int((folder / "ifindex").read_text()) == index
    except (OSError, ValueError):
        return False
    return same and (folder / "phy80211").exists()


def _strict_about_sources(name: str) -> bool:
    """Whether answers from outside the adapter's own routes are dropped unseen (RFC 3704 §2.2)."""
    try:
        folder = Path("/proc/sys/net/ipv4/conf")
        settings = (int((folder / each / "rp_filter").read_text()) for each in ("all", name))
        return max(settings) == 1
    except (OSError, ValueError):
        return False


def name_servers() -> tuple[str, ...]:
    """The name servers in force (resolv.conf(5)), as they are written there."""
    try:
        lines = Path("/etc/resolv.conf").read_text(encoding="utf-8", errors="replace").splitlines()
    except OSError:
        return ()
    words = [line.split() for line in lines]
    return tuple(word[1] for word in words if len(word) > 1 and word[0] == "nameserver")[:8]


def leaves_by(target: IPv4Address) -> str | None:
    """The name of the adapter by which the kernel would send to ``target`` now, or None.

    None also where the kernel takes the address for its own, or for everybody's.
    """
    return way_out(target).adapter


def way_out(target: IPv4Address, port: int | None = None) -> WayOut:
    """The way that a packet to ``target`` would take now, by the kernel's own look-up.

    With a ``port``, one that tries to connect there: a rule may be about that alone.
    """
    fixed = struct.pack("=BBBBBBBBI", socket.AF_INET, 32, *[0] * 7)
    meant = [(RouteAttribute.DESTINATION, target.packed)]
    if port is not None:
        meant.append((RouteAttribute.PROTOCOL, bytes((socket.IPPROTO_TCP,))))
        meant.append((RouteAttribute.TO_PORT, port.to_bytes(2, "big")))
    with Netlink() as netlink:
        try:
            route = netlink.get(MessageKind.GET_ROUTE, fixed, *meant)
            if route.fixed[7] != _UNICAST_ROUTE:
                return WayOut(own=route.fixed[7] == _LOCAL_ROUTE)
            name = socket.if_indextoname(route.number(RouteAttribute.OUT) or 0)
        except OSError as error:
            return WayOut(refused=(error.strerror or str(error)).lower())
    source, router = (
        IPv4Address(data) if (data := route.get(number)) and len(data) == 4 else None
        for number in (RouteAttribute.SOURCE, RouteAttribute.GATEWAY)
    )
    return WayOut(name, source, router)


def link_counters(name: str) -> LinkCounters:
    """How often an adapter lost its link, and what it received with errors. Raises OSError."""
    index = socket.if_nametoindex(name)
    fixed = struct.pack("=BBHiII", socket.AF_UNSPEC, 0, 0, index, 0, 0)
    with Netlink() as netlink:
        link = netlink.get(MessageKind.GET_LINK, fixed)
    statistics = link.get(LinkAttribute.STATISTICS) or b""
    errors = _RECEIVE_ERRORS.unpack_from(statistics)[0] if len(statistics) >= 40 else 0
    return LinkCounters(link.number(LinkAttribute.LOSSES), errors)


def managed_by(adapter: Adapter) -> str | None:
    """The network manager that says it runs this adapter, or None."""
    # Files in which each of them says, for every program, which adapters it manages.
    for manager, path, managed in (
        ("NetworkManager", f"/run/NetworkManager/devices/{adapter.index}", "managed=true"),
        ("systemd-networkd", f"/run/systemd/netif/links/{adapter.index}", "ADMIN_STATE=config"),
    ):
        try:
            if managed in Path(path).read_text(encoding="utf-8", errors="replace"):
                return manager
        except OSError:
            continue
    return None
