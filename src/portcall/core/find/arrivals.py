"""Which devices' answers arrive at the adapter, whether a program receives them or not.

A packet socket sees frames before any firewall rule does. When an answer arrived there and at no
socket, this computer's own firewall has dropped it.
"""

from __future__ import annotations

from ipaddress import IPv4Address

from portcall.core.address import Mac
from portcall.core.talk.conversation import Actions, Conversation, Frame, Report
from portcall.core.wire import udp
from portcall.core.wire.ethernet import EtherType
from portcall.core.wire.octets import Malformed

_MOST = 20_000
_IPV4 = EtherType.IPV4.octets
_SENDER = slice(26, 30)
"""In a frame without a VLAN tag, which is how the kernel hands them over."""


class Arrivals(Conversation[Frame, IPv4Address]):
    """Reports each address once that sends UDP from ``port`` to this computer; never over."""

    def __init__(self, own_mac: Mac, port: int) -> None:
        self._own_mac = own_mac
        self._port = port
        self._seen: set[bytes] = set()

    def heard(self, packet: Frame, now: float) -> Actions[Frame, IPv4Address]:
        """Note who answered."""
        # Frames that cannot be news are not taken apart: that is most of what arrives.
        if packet.data[:6] != self._own_mac or packet.data[12:14] != _IPV4:
            return
        sender = packet.data[_SENDER]
        if sender in self._seen:
            return
        try:
            frame = udp.parse_frame(packet.data)
        except Malformed:
            return
        if frame.datagram.source_port != self._port:
            return
        if len(self._seen) < _MOST:
            self._seen.add(sender)
            yield Report(frame.source)
