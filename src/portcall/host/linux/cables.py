"""Virtual cables and switches in network namespaces: bridges, veth pairs, link up and down.

Called inside the namespace meant, by way of ``NetworkNamespace.call``.
"""

from __future__ import annotations

import fcntl
import os
import struct
from collections.abc import Iterable
from ipaddress import IPv4Address, IPv4Interface, IPv4Network
from socket import if_nametoindex

from pyroute2 import IPRoute

from portcall.core.address import Mac

_TUNSETIFF = 0x400454CA
_TUN, _NO_HEADER = 0x0001, 0x1000
_PASS_LLDP = 1 << 14
"""Bit 14 of a bridge's group_fwd_mask: 01-80-C2-00-00-0E."""


def make_switch(name: str) -> None:
    """A bridge that floods what a plain switch floods, and hands LLDP on to whoever listens.

    A switch keeps LLDP to itself (IEEE 802.1D reserves the group address); on this one the laptop
    stands for the neighbour of every device, as it does at an open cabinet.
    """
    with IPRoute() as netlink:
        netlink.link(
            "add", ifname=name, kind="bridge", br_mcast_snooping=0, br_group_fwd_mask=_PASS_LLDP
        )
        netlink.link("set", index=if_nametoindex(name), state="up")


def make_cable(switch: str, port: str, far_namespace: int, far_name: str, far_mac: Mac) -> None:
    """A cable from a new port of a switch here to a new adapter in another namespace."""
    with IPRoute() as netlink:
        netlink.link(
            "add",
            ifname=port,
            kind="veth",
            peer={
                "ifname": far_name,
                "net_ns_fd": far_namespace,
                "address": str(far_mac).replace("-", ":").lower(),
            },
        )
        index = if_nametoindex(port)
        netlink.link("set", index=index, master=if_nametoindex(switch), state="up")


def free_port(port: str) -> None:
    """Pull a port out of its switch, and leave it switched on."""
    with IPRoute() as netlink:
        netlink.link("set", index=if_nametoindex(port), master=0)


def make_patch(switch: str, port: str, end: str) -> None:
    """A cable from a new port of a switch to an adapter ``end`` beside it, in this namespace."""
    with IPRoute() as netlink:
        netlink.link("add", ifname=port, kind="veth", peer={"ifname": end})
        netlink.link("set", index=if_nametoindex(port), master=if_nametoindex(switch))
        for name in (port, end):
            netlink.link("set", index=if_nametoindex(name), state="up")


def remove(name: str) -> None:
    """Take a cable away, with both its ends."""
    with IPRoute() as netlink:
        for index in netlink.link_lookup(ifname=name):
            netlink.link("del", index=index)


def add_route(network: IPv4Network, gateway: IPv4Address) -> None:
    """Send what is for a network by way of a gateway."""
    with IPRoute() as netlink:
        netlink.route("replace", dst=str(network), gateway=str(gateway))


def lead_by(name: str, goals: Iterable[IPv4Network], begin: bool = True) -> None:
    """Send what is for some networks by an adapter, as if they were on its wire; or no more."""
    with IPRoute() as netlink:
        for goal in goals:
            netlink.route("add" if begin else "del", dst=str(goal), oif=if_nametoindex(name))


class Tunnel:
    """A tunnel (tun(4)) that leads nowhere, and the routes into it; gone when it is closed."""

    def __init__(self, name: str, own: IPv4Interface, goals: Iterable[IPv4Network]) -> None:
        self._descriptor = os.open("/dev/net/tun", os.O_RDWR | os.O_CLOEXEC)
        try:
            request = name.encode().ljust(16, b"\0") + struct.pack("H22x", _TUN | _NO_HEADER)
            fcntl.ioctl(self._descriptor, _TUNSETIFF, request)
            set_link(name, up=True)
            set_address(name, own, None)
            with IPRoute() as netlink:
                for goal in goals:
                    netlink.route("add", dst=str(goal), oif=if_nametoindex(name))
        except BaseException:
            self.close()
            raise

    def close(self) -> None:
        """Take it away."""
        os.close(self._descriptor)


def move_port(port: str, switch: str) -> None:
    """Plug a port's cable into another switch."""
    with IPRoute() as netlink:
        netlink.link("set", index=if_nametoindex(port), master=if_nametoindex(switch))


def set_link(name: str, up: bool) -> None:
    """Switch an adapter or a port on or off."""
    with IPRoute() as netlink:
        netlink.link("set", index=if_nametoindex(name), state="up" if up else "down")


def set_address(name: str, interface: IPv4Interface, gateway: IPv4Address | None) -> None:
    """Give an adapter this address and no other, with a default route where there is a gateway."""
    with IPRoute() as netlink:
        index = if_nametoindex(name)
        netlink.flush_addr(index=index)
        netlink.addr(
            "add",
            index=index,
            address=str(interface.ip),
            prefixlen=interface.network.prefixlen,
            broadcast=str(interface.network.broadcast_address),
        )
        if gateway is not None and gateway in interface.network:
            netlink.route("replace", dst="default", gateway=str(gateway), oif=index)


def clear_addresses(name: str) -> None:
    """Take all addresses off an adapter."""
    with IPRoute() as netlink:
        netlink.flush_addr(index=if_nametoindex(name))
