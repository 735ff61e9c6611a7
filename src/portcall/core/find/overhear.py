"""Finding by listening: devices that ask for an address, and devices that speak ARP unasked."""

from __future__ import annotations

from portcall.core.address import NO_MAC, UNSPECIFIED, Mac
from portcall.core.conversation import Actions, Conversation, Frame, Report
from portcall.core.find.sighting import Field, Method, Protocol, Said, Sighting
from portcall.core.printable import decoded
from portcall.core.probe import heard_arp
from portcall.core.wire import bootp, dhcp, udp
from portcall.core.wire.arp import Operation
from portcall.core.wire.octets import Malformed

_MOST_REPORTS = 50_000


class Overhear(Conversation[Frame, Sighting]):
    """Sends nothing; reports until the time given to it is over."""

    def __init__(self, own_mac: Mac, seconds: float) -> None:
        self._own_mac = own_mac
        self._seconds = seconds
        self._reports = 0

    def begin(self, now: float) -> Actions[Frame, Sighting]:
        """Start the clock."""
        self.wake_at = now + self._seconds
        yield from ()

    def woke(self, now: float) -> Actions[Frame, Sighting]:
        """Time is over."""
        self.over = True
        self.wake_at = None
        yield from ()

    def heard(self, packet: Frame, now: float) -> Actions[Frame, Sighting]:
        """Report who spoke."""
        seen = self._arp(packet, now) or self._request(packet, now)
        if seen and seen.mac != self._own_mac and self._reports < _MOST_REPORTS:
            self._reports += 1
            yield Report(seen)

    def _arp(self, packet: Frame, now: float) -> Sighting | None:
        said = heard_arp(packet)
        if said is None or said.operation is not Operation.REQUEST:
            return None
        if said.sender_mac.is_group or said.sender_mac == NO_MAC:
            return None
        address = None if said.sender_address == UNSPECIFIED else said.sender_address
        return Sighting(now, Method.LISTEN, said.sender_mac, address)

    def _request(self, packet: Frame, now: float) -> Sighting | None:
        try:
            frame = udp.parse_frame(packet.data)
            if frame.datagram.destination_port != bootp.SERVER_PORT:
                return None
            message = bootp.parse(frame.datagram.payload)
            options = dhcp.parse(message)
        except Malformed:
            return None
        if message.op is not bootp.Op.REQUEST or message.mac.is_group or message.mac == NO_MAC:
            return None
        kind = options.message_type if options else None
        if kind not in (None, dhcp.MessageType.DISCOVER, dhcp.MessageType.REQUEST):
            return None
        name = decoded(options.host_name or b"") if options else ""
        said = (Said(Field.NAME, name, Method.LISTEN),) if name else ()
        protocol = Protocol.BOOTP if kind is None else Protocol.DHCP
        address = None if message.ciaddr == UNSPECIFIED else message.ciaddr
        return Sighting(now, Method.LISTEN, message.mac, address, said, protocol)
