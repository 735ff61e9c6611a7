"""Which devices' answers arrive at the adapter, whether a program receives them or not.

A packet socket sees frames before any firewall rule does. When an answer arrived there and at no
socket, this computer's own firewall has dropped it.
"""

from __future__ import annotations

from collections.abc import Container, Iterable, Sequence
from dataclasses import dataclass
from ipaddress import IPv4Address
from typing import NamedTuple

from portcall.core.address import Mac
from portcall.core.talk.conversation import Actions, Conversation, Frame, Report
from portcall.core.wire import udp
from portcall.core.wire.ethernet import EtherType
from portcall.core.wire.octets import Malformed

_MOST = 20_000
_TIME_TO_READ = 0.3
"""Seconds in which what the kernel has for a socket is read from it, also by a busy program."""
_IPV4 = EtherType.IPV4.octets
_SENDER, _PORT_HERE = slice(26, 30), slice(36, 38)
"""In a frame without a VLAN tag, which is how the kernel hands them over."""


class Arrival(NamedTuple):
    """An answer that was seen at the adapter: from whom, to which port of this computer, when."""

    sender: IPv4Address
    port: int
    at: float


@dataclass(slots=True)
class Ear:
    """A socket for such answers: its port, and from when until when it was read."""

    port: int
    opened: float
    closed: float = float("inf")

    def had_time_for(self, arrival: Arrival) -> bool:
        """Whether it would have been given this, and been read after it came."""
        open_then = self.opened <= arrival.at <= self.closed - _TIME_TO_READ
        return arrival.port == self.port and open_then


def dropped(
    arrivals: Iterable[Arrival], ears: Sequence[Ear], came_through: Container[IPv4Address]
) -> tuple[IPv4Address, ...]:
    """The senders of answers that no socket was given, though one was there for them."""
    lost = (
        arrival.sender
        for arrival in arrivals
        if arrival.sender not in came_through and any(ear.had_time_for(arrival) for ear in ears)
    )
    return tuple(dict.fromkeys(lost))


class Arrivals(Conversation[Frame, Arrival]):
    """Reports who sends UDP from ``port`` to this computer, once for each port here; never over."""

    def __init__(self, own_mac: Mac, port: int) -> None:
        self._own_mac = own_mac
        self._port = port
        self._seen: set[bytes] = set()

    def heard(self, packet: Frame, now: float) -> Actions[Frame, Arrival]:
        """Note who answered."""
        # Skip frames that cannot bring news before parsing them: most frames are of that kind.
        if packet.data[:6] != self._own_mac or packet.data[12:14] != _IPV4:
            return
        sender = packet.data[_SENDER] + packet.data[_PORT_HERE]
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
            yield Report(Arrival(frame.source, frame.datagram.destination_port, now))
