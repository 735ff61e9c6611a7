"""Virtual cables and switches in network namespaces: bridges, veth pairs, link up and down.

Called inside the namespace meant, by way of ``NetworkNamespace.call``.
"""

from __future__ import annotations

from ipaddress import IPv4Address, IPv4Interface

from pyroute2 import IPRoute

from portcall.core.address import Mac

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
