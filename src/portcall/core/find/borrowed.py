"""An address borrowed in a foreign subnet: which to borrow, and which frames are for it."""

from __future__ import annotations

from collections.abc import Collection, Iterator
from ipaddress import IPv4Address, IPv4Interface, IPv4Network

from portcall.core.adapters.own_address import Wanted, candidates
from portcall.core.address import LIMITED_BROADCAST
from portcall.core.wire import arp, bacnet, ethernet, ipv4
from portcall.core.wire.ethernet import EtherType
from portcall.core.wire.octets import Malformed

_UDP_DESTINATION = slice(2, 4)


def concerns(data: bytes, own: IPv4Interface, outward: bool) -> bool:
    """Whether a frame is from the borrowed address (outward), or for it (inward).

    Broadcast answers to a question that everybody was asked come in BACnet only.
    """
    try:
        frame = ethernet.parse(data)
        if frame.ethertype == EtherType.ARP:
            said = arp.parse(frame.payload)
            return (said.sender_address if outward else said.target_address) == own.ip
        if frame.ethertype != EtherType.IPV4:
            return False
        packet = ipv4.parse(frame.payload)
    except Malformed:
        return False
    if outward:
        return packet.source == own.ip
    if packet.destination == own.ip:
        return True
    everybody = (LIMITED_BROADCAST, own.network.broadcast_address)
    return (
        packet.destination in everybody
        and packet.protocol == ipv4.PROTOCOL_UDP
        and packet.payload[_UDP_DESTINATION] == bacnet.PORT.to_bytes(2, "big")
    )


def borrowable(
    network: IPv4Network,
    preferred: IPv4Address | None,
    avoid: Collection[IPv4Address],
    rather_not: Collection[IPv4Address] = (),
) -> Iterator[IPv4Address]:
    """Addresses to try, best first: the site's own for the workstation, then from the top down."""
    return candidates(Wanted(network, None, "seen"), preferred, avoid, rather_not)
