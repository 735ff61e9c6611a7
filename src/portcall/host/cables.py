"""Virtual cables and switches in network namespaces: bridges, veth pairs, link up and down.

Called inside the namespace meant, by way of ``NetworkNamespace.call``.
"""

from __future__ import annotations

import contextlib
from ipaddress import IPv4Address, IPv4Interface
from pathlib import Path

from pyroute2 import IPRoute

from portcall.core.address import Mac


def quiet_kernel() -> None:
    """Settings of a simple device: no IPv6, no filtering by source, answer ARP plainly."""
    for setting, value in (
        ("ipv6/conf/all/disable_ipv6", "1"),
        ("ipv6/conf/default/disable_ipv6", "1"),
        ("ipv4/conf/all/rp_filter", "0"),
        ("ipv4/conf/default/rp_filter", "0"),
        ("ipv4/conf/all/arp_ignore", "0"),
        ("ipv4/conf/all/arp_announce", "0"),
        ("ipv4/icmp_ratelimit", "0"),
    ):
        # Where /proc/sys may not be written, what the computer has must do.
        with contextlib.suppress(OSError):
            (Path("/proc/sys/net") / setting).write_text(value)


def make_switch(name: str) -> None:
    """A bridge that floods what a plain switch floods."""
    with IPRoute() as netlink:
        netlink.link("add", ifname=name, kind="bridge", br_mcast_snooping=0)
        netlink.link("set", index=_index(netlink, name), state="up")


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
        index = _index(netlink, port)
        netlink.link("set", index=index, master=_index(netlink, switch))
        netlink.link("set", index=index, state="up")


def move_port(port: str, switch: str) -> None:
    """Plug a port's cable into another switch."""
    with IPRoute() as netlink:
        netlink.link("set", index=_index(netlink, port), master=_index(netlink, switch))


def set_link(name: str, up: bool) -> None:
    """Switch an adapter or a port on or off."""
    with IPRoute() as netlink:
        netlink.link("set", index=_index(netlink, name), state="up" if up else "down")


def set_address(name: str, interface: IPv4Interface, gateway: IPv4Address | None) -> None:
    """Give an adapter this address and no other, with a default route where there is a gateway."""
    with IPRoute() as netlink:
        index = _index(netlink, name)
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
        netlink.flush_addr(index=_index(netlink, name))


def _index(netlink: IPRoute, name: str) -> int:
    return int(netlink.link_lookup(ifname=name)[0])
