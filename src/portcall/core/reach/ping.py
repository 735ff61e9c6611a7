"""Echo requests to any number of targets (RFC 792, Echo), and what became of each."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from ipaddress import IPv4Address

from portcall.core.reach.echo_facts import Fact, Replied, Undelivered
from portcall.core.reach.rounds import Rounds
from portcall.core.talk.conversation import Actions, IcmpPacket, Report
from portcall.core.wire import icmp
from portcall.core.wire.octets import Malformed

HEADERS = 28
"""Octets of IPv4 and ICMP around what an echo carries."""

OCTETS = 76
"""The usual IPv4 packet: it makes the frame 90 octets long."""

LONGEST = 65_535
BY_ARP = "nothing answers ARP at this address"


class Ping(Rounds[IcmpPacket, IPv4Address]):
    """Rounds of one request to each target.

    ``identifier`` is what the socket puts in the messages; sequence numbers tell the rest. ``own``
    are this computer's addresses: an error that comes from one of them is its own. ``sizes`` are
    the lengths of the IPv4 packets, one round after the other.
    """

    def __init__(
        self,
        targets: Sequence[IPv4Address],
        identifier: int,
        count: int | None = 4,
        interval: float = 1.0,
        wait: float = 1.0,
        own: Collection[IPv4Address] = (),
        sizes: Sequence[int] = (OCTETS,),
        first: int = 1,
    ) -> None:
        super().__init__(targets, count, interval, wait, first)
        self._identifier = identifier
        self._own = frozenset(own)
        # A pattern that is easy to see in a capture.
        self._payloads = [bytes(n & 0xFF for n in range(size - HEADERS)) for size in sizes]
        self._message = b""
        self._message_round = -1

    def key(self, target: IPv4Address) -> int:
        """Its number: an address as such takes long to look up."""
        return int(target)

    @property
    def octets(self) -> int:
        """The length of this round's packets."""
        return len(self._message) + HEADERS - 8

    def question(self, target: IPv4Address) -> IcmpPacket:
        """An echo request; all of one round are the same."""
        if self._message_round != self.round:
            payload = self._payloads[self.round % len(self._payloads)]
            echo = icmp.Echo(False, self._identifier, self.round, payload)
            self._message, self._message_round = icmp.encode_echo(echo), self.round
        return IcmpPacket(target, self._message)

    def asked(self, packet: IcmpPacket) -> IPv4Address:
        """Its other side."""
        return packet.peer

    def heard(self, packet: IcmpPacket, now: float) -> Actions[IcmpPacket, Fact]:
        """An echo, or an error about one."""
        if icmp.is_reply_to(packet.message, self._identifier):
            return self._answered(packet, now)
        return self._error(packet, now)

    def _answered(self, packet: IcmpPacket, now: float) -> Actions[IcmpPacket, Fact]:
        number = icmp.sequence_of(packet.message)
        waiting = self._settled(packet.peer, number)
        if waiting is None:
            return ()
        if not self._pending:
            self._plan_wake()
        seconds = max(now - waiting.sent, 0.0)
        fact = Replied(packet.peer, number, seconds, packet.ttl, waiting.sent, waiting.octets)
        return (Report(fact),)

    def _error(self, packet: IcmpPacket, now: float) -> Actions[IcmpPacket, Fact]:
        try:
            said = icmp.parse_answer(packet.message)
        except Malformed:
            return ()
        if isinstance(said, icmp.Undelivered) and said.identifier == self._identifier:
            # This computer's own kernel says so, when ARP found nobody.
            own = packet.peer in self._own
            reason = BY_ARP if own else f"{said.reason}, says {packet.peer}"
            told = None
            if not own:
                ttl, expired, mtu = packet.ttl, said.expired, said.mtu
                told = Undelivered(packet.peer, said.reason, 0.0, ttl, expired, mtu)
            self._undelivered(said.destination, said.sequence, told, reason, now)
            self._plan_wake()
        return ()
