"""Finding by IPv6: an echo to all nodes of the link reaches devices that have only that."""

from __future__ import annotations

from collections.abc import Iterable
from ipaddress import IPv6Address

from portcall.core.address import Mac
from portcall.core.find.protocol import OnTheLink, Protocol
from portcall.core.find.sighting import Method, Sighting
from portcall.core.talk.ask_all import ASK_TIMES, AskAll
from portcall.core.talk.conversation import Actions, Frame, Report, Send
from portcall.core.wire import ipv6
from portcall.core.wire.octets import Malformed

ANSWER_WAIT = 1.0
_MOST_NODES = 10_000


class Ipv6Echo(AskAll[Frame, Sighting]):
    """Asks twice, from the link-local address that follows from the adapter's MAC.

    Each node is reported once. A node that answers first asks for this computer's MAC; it is told,
    whether or not this computer uses IPv6.
    """

    def __init__(self, own_mac: Mac, identifier: int) -> None:
        super().__init__(ANSWER_WAIT)
        self._own_mac = own_mac
        self._own = ipv6.link_local(own_mac)
        self._identifier = identifier
        self._seen: set[tuple[Mac, IPv6Address]] = set()

    def question(self) -> Iterable[Frame]:
        """An echo to all nodes."""
        return (Frame(ipv6.encode_echo_to_all(self._own_mac, self._identifier)),)

    def heard(self, packet: Frame, now: float) -> Actions[Frame, Sighting]:
        """Take echoes, and let those find us who want to send one."""
        try:
            frame = ipv6.parse_frame(packet.data)
            if frame.kind == ipv6.Icmp6.NEIGHBOUR_SOLICITATION:
                ours = ipv6.parse_solicited(frame) == self._own
                if ours and not frame.source.is_unspecified and frame.source_mac != self._own_mac:
                    yield Send(Frame(ipv6.encode_advertisement(self._own_mac, frame)))
                return
        except Malformed:
            return
        is_echo = frame.kind == ipv6.Icmp6.ECHO_REPLY and frame.destination == self._own
        if not is_echo or frame.body[:2] != self._identifier.to_bytes(2, "big"):
            return
        pair = (frame.source_mac, frame.source)
        if pair not in self._seen and len(self._seen) < _MOST_NODES:
            self._seen.add(pair)
            yield Report(Sighting(now, Method.IPV6, frame.source_mac, ipv6=frame.source))


PROTOCOL = Protocol(
    Method.IPV6,
    "IPV6",
    53,
    says_who=False,
    needs_link=True,
    on_the_link=OnTheLink(Ipv6Echo, ASK_TIMES * ANSWER_WAIT),
)
