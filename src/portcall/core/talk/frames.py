"""Parts of frames that many conversations read or make: ARP, a ping, the sender."""

from __future__ import annotations

from ipaddress import IPv4Address

from portcall.core.address import LIMITED_BROADCAST, UNSPECIFIED, Mac
from portcall.core.talk.conversation import Frame
from portcall.core.wire import arp, dcp, ethernet, icmp, ipv4, udp
from portcall.core.wire.ethernet import EtherType
from portcall.core.wire.octets import Malformed

_ECHO_IDENTIFIER = 0x5043
_ARP = EtherType.ARP.octets
_IPV4 = EtherType.IPV4.octets
_ICMP = bytes((ipv4.PROTOCOL_ICMP,))
_LINK_GROUP = b"\xe0\0\0"


def heard_arp(frame: Frame) -> arp.Arp | None:
    """The ARP packet in a frame, or None when there is none that can be read."""
    if frame.data[12:14] != _ARP:
        return None
    try:
        return arp.parse_frame(frame.data)
    except Malformed:
        return None


def echo_request(own_mac: Mac, to: Mac, own: IPv4Address, address: IPv4Address) -> Frame:
    """A ping to an address behind a router or relay agent, whose MAC is ``to``."""
    message = icmp.encode_echo(icmp.Echo(False, _ECHO_IDENTIFIER, 0, b""))
    packet = ipv4.Ipv4Packet(own, address, ipv4.PROTOCOL_ICMP, message)
    frame = ethernet.EthernetFrame(to, own_mac, EtherType.IPV4, ipv4.encode(packet))
    return Frame(ethernet.encode(frame))


def answers_echo(frame: Frame) -> IPv4Address | None:
    """The address that answers an ``echo_request``; None when the frame is no answer to one."""
    if frame.data[12:14] != _IPV4 or frame.data[23:24] != _ICMP:
        return None
    try:
        packet = ipv4.parse(ethernet.parse(frame.data).payload)
        if packet.is_fragment:
            return None
        said = icmp.parse_answer(packet.payload)
    except Malformed:
        return None
    ours = isinstance(said, icmp.Echo) and said.is_reply and said.identifier == _ECHO_IDENTIFIER
    return packet.source if ours else None


def own_address(frame: udp.UdpFrame) -> IPv4Address | None:
    """The sender's own address, where a datagram tells it for certain, else None.

    Only a broadcast, and multicast of the link (RFC 5771 §4), was not passed on by a router.
    """
    destination = frame.destination
    is_local = destination.packed[:3] == _LINK_GROUP or destination == LIMITED_BROADCAST
    return frame.source if is_local and frame.source != UNSPECIFIED else None


def announced_address(packet: Frame) -> IPv4Address | None:
    """The address that a device announces of itself by DCP or by a local datagram, else None."""
    try:
        outer = ethernet.parse_untagged(packet.data)
        if outer.ethertype == EtherType.PROFINET:
            message = dcp.parse(outer.payload)
            is_told = message.service in (dcp.Service.IDENTIFY, dcp.Service.HELLO)
            return (
                dcp.parse_station(message).address if is_told and not message.is_request else None
            )
        if outer.ethertype == EtherType.IPV4 and outer.destination.is_group:
            return own_address(udp.parse_frame(packet.data))
    except Malformed:
        pass
    return None
