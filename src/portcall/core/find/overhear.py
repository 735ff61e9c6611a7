"""Finding by listening: who asks for an address, who announces itself, and who sends anything.

Nothing is sent. Frames from a wire and from a capture file are read in the same way.
"""

from __future__ import annotations

from collections.abc import Collection
from ipaddress import IPv4Address

from portcall.core.address import NO_MAC, UNSPECIFIED, Mac
from portcall.core.catalog.catalog import Codes, Numbering
from portcall.core.find import dcp_identify, lldp_listen, mdns_names
from portcall.core.find import sentences as say
from portcall.core.find.protocol import Protocol
from portcall.core.find.sighting import Field, Method, Said, Sighting, said_by
from portcall.core.printable import decoded
from portcall.core.talk.conversation import Actions, Conversation, Frame, Report
from portcall.core.talk.frames import own_address
from portcall.core.talk.request import AddressProtocol
from portcall.core.wire import arp, bacnet, bootp, dcp, dhcp, dns, ethernet, ipv6, lldp, udp
from portcall.core.wire.ethernet import EtherType
from portcall.core.wire.octets import Malformed

REPEAT = 1.0
"""Seconds until the same statement of the same device is reported again, so that it stays fresh."""

_MOST_KNOWN = 4000
_PORT = slice(36, 38)
"""Where UDP has its destination port, in a frame without VLAN tag or IP options."""
_HEARD_PORTS = tuple(port.to_bytes(2, "big") for port in (bootp.SERVER_PORT, bootp.CLIENT_PORT))


class Overhear(Conversation[Frame, Sighting]):
    """Reports until its time is over; ``own_mac`` is None for frames from a file."""

    def __init__(
        self,
        own_mac: Mac | None,
        seconds: float | None,
        methods: Collection[Method] = (Method.LISTEN, Method.LLDP),
    ) -> None:
        self._own_mac = own_mac
        self._seconds = seconds
        self._methods = frozenset(methods)
        self._last: dict[Sighting, float] = {}

    def begin(self, now: float) -> Actions[Frame, Sighting]:
        """Start the clock."""
        self.wake_at = None if self._seconds is None else now + self._seconds
        yield from ()

    def woke(self, now: float) -> Actions[Frame, Sighting]:
        """Time is over."""
        self.over = True
        self.wake_at = None
        yield from ()

    def heard(self, packet: Frame, now: float) -> Actions[Frame, Sighting]:
        """Report who spoke, and what it said."""
        seen = overheard(packet, now)
        if seen is None or seen.mac == self._own_mac or seen.method not in self._methods:
            return
        if self._is_news(seen, now):
            yield Report(seen)
        if seen.asks is AddressProtocol.DHCP:
            server = _server_named_in(packet)
            if server is not None:
                said = said_by(Method.LISTEN, (Field.SERVES, "DHCP"))
                yield Report(Sighting(now, Method.LISTEN, None, server, said))

    def _is_news(self, seen: Sighting, now: float) -> bool:
        if seen.asks is not None:
            return True
        # The same statement without its time, for remembering it.
        word = seen._replace(at=0.0, codes=None)
        last = self._last.pop(word, None)
        self._last[word] = now if last is None or now - last >= REPEAT else last
        if len(self._last) > _MOST_KNOWN:
            # The oldest statement is forgotten first; hearing one again makes it the newest.
            del self._last[next(iter(self._last))]
        return last is None or now - last >= REPEAT


def overheard(packet: Frame, now: float) -> Sighting | None:
    """The sighting that one frame makes of its sender, or None."""
    plain, vlan = ethernet.without_tags(packet.data)
    seen = _on_this_wire(Frame(plain), now)
    if seen is None or vlan is None:
        return seen
    said = said_by(seen.method, (Field.MANNER, say.IN_VLAN(vlan=vlan)))
    return seen._replace(said=(*seen.said, *said), vlan=vlan)


def _on_this_wire(packet: Frame, now: float) -> Sighting | None:
    try:
        outer = ethernet.parse(packet.data)
    except Malformed:
        return None
    if outer.source.is_group or outer.source == NO_MAC:
        return None
    try:
        if outer.ethertype == EtherType.ARP:
            return _arp(outer, now)
        if outer.ethertype == EtherType.LLDP:
            return lldp_listen.sighting(outer.source, lldp.parse(outer.payload), now)
        if outer.ethertype == EtherType.PROFINET:
            return _dcp(outer, now)
        if outer.ethertype == EtherType.IPV4:
            return _udp(packet, outer, now)
        if outer.ethertype == EtherType.IPV6 and outer.destination.is_group:
            return _ipv6(packet, now)
    except Malformed:
        pass
    return Sighting(now, Method.LISTEN, outer.source)


def _arp(outer: ethernet.EthernetFrame, now: float) -> Sighting | None:
    said = arp.parse(outer.payload)
    if said.operation is not arp.Operation.REQUEST and not outer.destination.is_group:
        # This is an answer to somebody; the method that asked will report it.
        return None
    if said.sender_mac.is_group or said.sender_mac == NO_MAC:
        return None
    address = None if said.sender_address == UNSPECIFIED else said.sender_address
    return Sighting(now, Method.LISTEN, said.sender_mac, address)


def _dcp(outer: ethernet.EthernetFrame, now: float) -> Sighting | None:
    message = dcp.parse(outer.payload)
    if message.service not in (dcp.Service.IDENTIFY, dcp.Service.HELLO) or message.is_request:
        return Sighting(now, Method.LISTEN, outer.source)
    seen = dcp_identify.sighting(outer.source, dcp.parse_station(message), now)
    return Sighting(now, Method.LISTEN, seen.mac, seen.address, seen.said, None, seen.codes)


def _udp(packet: Frame, outer: ethernet.EthernetFrame, now: float) -> Sighting | None:
    if not outer.destination.is_group and packet.data[_PORT] not in _HEARD_PORTS:
        # Two other hosts talk, or it is an answer to this computer, which the method that asked
        # reports.
        return None
    frame = udp.parse_frame(packet.data)
    port = frame.datagram.destination_port
    if port == bootp.SERVER_PORT:
        return _request(frame, now)
    if port == bootp.CLIENT_PORT:
        return _reply(frame, now)
    address = own_address(frame)
    said: tuple[Said, ...] = ()
    codes = None
    try:
        if port == dns.PORT and frame.source == address:
            said = mdns_names.said(dns.parse(frame.datagram.payload), frame.source)
        elif port == bacnet.PORT and outer.destination.is_group:
            announced = bacnet.parse(frame.datagram.payload)
            # A message that was passed on comes from a relay, and tells of another device.
            passed_on = isinstance(announced, bacnet.IAm) and (
                announced.origin is not None or announced.network is not None
            )
            if isinstance(announced, bacnet.IAm) and not passed_on:
                address = frame.source
                codes = Codes(Numbering.BACNET, announced.vendor)
    except Malformed:
        pass
    return Sighting(now, Method.LISTEN, frame.source_mac, address, said, None, codes)


def _ipv6(packet: Frame, now: float) -> Sighting | None:
    frame = ipv6.parse_frame(packet.data)
    spoken = frame.source if frame.source.is_link_local else None
    return Sighting(now, Method.LISTEN, frame.source_mac, ipv6=spoken)


def _reply(frame: udp.UdpFrame, now: float) -> Sighting | None:
    """The sender of a DHCP answer is a server, unless a relay passed it on (RFC 2131 §4.1)."""
    _, message, options = dhcp.parse_datagram(frame)
    if message.op is not bootp.Op.REPLY or options is None or options.message_type is None:
        return None
    if frame.datagram.source_port != bootp.SERVER_PORT or message.giaddr != UNSPECIFIED:
        return Sighting(now, Method.LISTEN, frame.source_mac, own_address(frame))
    said = said_by(Method.LISTEN, (Field.SERVES, "DHCP"))
    address = own_address(frame) or options.server_identifier
    return Sighting(now, Method.LISTEN, frame.source_mac, address, said)


def _server_named_in(packet: Frame) -> IPv4Address | None:
    """The server whose offer a device takes: it tells everybody (RFC 2131 §4.3.2)."""
    try:
        heard = dhcp.parse_frame(ethernet.without_tags(packet.data)[0])
    except Malformed:
        return None
    return heard.options.server_identifier if heard and heard.options else None


def _request(frame: udp.UdpFrame, now: float) -> Sighting | None:
    _, message, options = dhcp.parse_datagram(frame)
    if message.op is not bootp.Op.REQUEST or message.mac.is_group or message.mac == NO_MAC:
        return None
    kind = options.message_type if options else None
    address = None if message.ciaddr == UNSPECIFIED else message.ciaddr
    if kind not in (None, dhcp.MessageType.DISCOVER, dhcp.MessageType.REQUEST):
        return Sighting(now, Method.LISTEN, message.mac, address)
    name = decoded(options.host_name or b"") if options else ""
    said = said_by(Method.LISTEN, (Field.NAME, name))
    protocol = AddressProtocol.BOOTP if kind is None else AddressProtocol.DHCP
    return Sighting(now, Method.LISTEN, message.mac, address, said, protocol)


PROTOCOL = Protocol(Method.LISTEN, "overheard", 50, says_who=False, needs_link=True)
