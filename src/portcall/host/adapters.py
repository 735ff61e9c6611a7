"""The workstation's adapters, their addresses and routes, read from and changed in the kernel.

Through netlink (pyroute2), ethtool's ioctl for speed and duplex, and sysfs for what is wireless.
Values are of the calling thread's network namespace.
"""

from __future__ import annotations

import ctypes
import errno
import fcntl
import socket
import struct
from collections.abc import Iterable
from ipaddress import IPv4Address, IPv4Interface
from pathlib import Path
from typing import Any

from pyroute2 import IPRoute
from pyroute2.netlink.exceptions import NetlinkError

from portcall.core.adapter import Adapter, AdapterAddress, AdapterKind, Origin
from portcall.core.address import Mac
from portcall.core.trouble import NotPossibleHere

_IFF_UP = 0x1
_IFF_LOOPBACK = 0x8
_IFF_LOWER_UP = 0x10000
_IFA_F_PERMANENT = 0x80
_ARPHRD_ETHER = 1
_MAIN_TABLE = 254
_SCOPE_LINK_LOCAL = "169.254."
_TUNNELS = {"tun", "wireguard", "ipip", "gre", "sit", "vti", "xfrm", "ppp"}

_SIOCETHTOOL = 0x8946
_ETHTOOL_GLINKSETTINGS = 0x4C
_SPEED_UNKNOWN = 0xFFFFFFFF
_MASK_WORDS = 15
"""Where struct ethtool_link_settings has link_mode_masks_nwords."""


def read_adapters(matched: Iterable[tuple[str, IPv4Interface]] = ()) -> tuple[Adapter, ...]:
    """All adapters as the kernel has them now, in the kernel's order.

    ``matched`` are the addresses that match added, by adapter name, so that they are named so.
    """
    ours = set(matched)
    with IPRoute() as netlink:
        links = list(netlink.get_links())
        addresses = list(netlink.get_addr(family=socket.AF_INET))
        routes = list(netlink.get_routes(family=socket.AF_INET, table=_MAIN_TABLE))
    defaults = {
        route.get("RTA_OIF"): route.get("RTA_GATEWAY") for route in routes if not route["dst_len"]
    }
    return tuple(_adapter(link, addresses, defaults, ours) for link in links)


def _adapter(
    link: Any,
    addresses: list[Any],
    defaults: dict[int, str | None],
    ours: set[tuple[str, IPv4Interface]],
) -> Adapter:
    name, index = str(link.get("IFLA_IFNAME")), int(link["index"])
    hardware = link.get("IFLA_ADDRESS")
    is_ethernet = link["ifi_type"] == _ARPHRD_ETHER
    speed, duplex = _speed_and_duplex(name)
    gateway = defaults.get(index)
    return Adapter(
        name,
        index,
        _kind(link, name, is_ethernet),
        Mac(bytes.fromhex(hardware.replace(":", ""))) if is_ethernet and hardware else None,
        bool(link["flags"] & _IFF_UP),
        bool(link["flags"] & _IFF_UP and link["flags"] & _IFF_LOWER_UP),
        int(link.get("IFLA_MTU") or 0),
        speed,
        duplex,
        tuple(_address(entry, name, ours) for entry in addresses if entry["index"] == index),
        IPv4Address(gateway) if gateway else None,
        index in defaults,
    )


def _address(entry: Any, name: str, ours: set[tuple[str, IPv4Interface]]) -> AdapterAddress:
    interface = IPv4Interface((str(entry.get("IFA_LOCAL")), int(entry["prefixlen"])))
    if (name, interface) in ours:
        return AdapterAddress(interface, Origin.MATCHED)
    if str(interface.ip).startswith(_SCOPE_LINK_LOCAL):
        return AdapterAddress(interface, Origin.LINK_LOCAL)
    # A DHCP client gives an address a lifetime; one typed in has none.
    permanent = int(entry.get("IFA_FLAGS") or entry["flags"]) & _IFA_F_PERMANENT
    return AdapterAddress(interface, Origin.STATIC if permanent else Origin.DYNAMIC)


def _kind(link: Any, name: str, is_ethernet: bool) -> AdapterKind:
    if link["flags"] & _IFF_LOOPBACK:
        return AdapterKind.LOOPBACK
    info = link.get("IFLA_LINKINFO")
    made_of = info.get("IFLA_INFO_KIND") if info else None
    if made_of in _TUNNELS or not is_ethernet:
        return AdapterKind.TUNNEL
    if made_of == "veth" and not link.get("IFLA_MASTER"):
        # The cable of a namespace or container, and all the wire there is in one. The other end
        # on its host is a port of a bridge and stays virtual.
        return AdapterKind.WIRED
    if made_of:
        return AdapterKind.VIRTUAL
    return AdapterKind.WIRELESS if _is_wireless(name, int(link["index"])) else AdapterKind.WIRED


def _is_wireless(name: str, index: int) -> bool:
    folder = Path("/sys/class/net") / name
    try:
        # sysfs shows the namespace it was mounted in: believe it only about the same adapter.
        same = int((folder / "ifindex").read_text()) == index
    except (OSError, ValueError):
        return False
    return same and (folder / "phy80211").exists()


def _speed_and_duplex(name: str) -> tuple[int | None, bool | None]:
    """Negotiated speed in Mbit/s and full duplex, None where the driver does not say."""
    request = bytearray(
        struct.pack("=II", _ETHTOOL_GLINKSETTINGS, 0).ljust(48 + 3 * 4 * 127, b"\0")
    )
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as sock:
        try:
            # First call: the kernel answers with how many words its link mode masks have,
            # as a negative number (linux/ethtool.h, struct ethtool_link_settings).
            _ethtool(sock, name, request)
            words = struct.unpack_from("=b", request, _MASK_WORDS)[0]
            struct.pack_into("=I", request, 0, _ETHTOOL_GLINKSETTINGS)
            struct.pack_into("=b", request, _MASK_WORDS, -words)
            _ethtool(sock, name, request)
        except OSError:
            return None, None
    speed, duplex = struct.unpack_from("=IB", request, 4)
    return (
        speed if 0 < speed < _SPEED_UNKNOWN else None,
        {0: False, 1: True}.get(duplex),
    )


def _ethtool(sock: socket.socket, name: str, request: bytearray) -> None:
    place = (ctypes.c_char * len(request)).from_buffer(request)
    ifreq = struct.pack("16sP16x", name.encode()[:15], ctypes.addressof(place))
    fcntl.ioctl(sock, _SIOCETHTOOL, ifreq)


def add_address(adapter: Adapter, interface: IPv4Interface) -> None:
    """Add an address. Raises NotPossibleHere when the kernel refuses."""
    _change("add", adapter, interface)


def remove_address(adapter: Adapter, interface: IPv4Interface) -> bool:
    """Take an address off; False when it was not there."""
    return _change("del", adapter, interface)


def _change(command: str, adapter: Adapter, interface: IPv4Interface) -> bool:
    with IPRoute() as netlink:
        try:
            netlink.addr(
                command,
                index=adapter.index,
                address=str(interface.ip),
                prefixlen=interface.network.prefixlen,
                **(
                    {"broadcast": str(interface.network.broadcast_address)}
                    if command == "add"
                    else {}
                ),
            )
        except NetlinkError as error:
            if command == "del" and error.code in (errno.EADDRNOTAVAIL, errno.ENODEV):
                return False
            if error.code in (errno.EPERM, errno.EACCES):
                reason = "it needs root or CAP_NET_ADMIN: run this with sudo"
            else:
                reason = f"the kernel says: {errno.errorcode.get(error.code, '')} {error.args[-1]}"
            raise NotPossibleHere(
                f"{adapter.name}: {interface} could not be "
                f"{'added' if command == 'add' else 'removed'}: {reason}"
            ) from None
    return True


def leaves_by(target: IPv4Address) -> str | None:
    """The name of the adapter by which the kernel would send to ``target`` now, or None."""
    with IPRoute() as netlink:
        try:
            route = netlink.route("get", dst=str(target))[0]
            link = netlink.get_links(route.get("RTA_OIF"))[0]
        except NetlinkError:
            return None
        return str(link.get("IFLA_IFNAME"))
