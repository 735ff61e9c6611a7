"""Echo requests to any number of targets (RFC 792, Echo), and what became of each."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from ipaddress import IPv4Address

from portcall.core.reach.echo_facts import Fact, Replied
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
        # The pattern shows up in a capture.
        self._payloads = [bytes(n & 0xFF for n in range(size - HEADERS)) for size in sizes]
        self._message = b""
        self._message_round = -1

    def question(self, target: IPv4Address) -> tuple[IcmpPacket, int]:
        """An echo request; all of one round are the same."""
        if self._message_round != self.round:
            payload = self._payloads[self.round % len(self._payloads)]
            echo = icmp.Echo(False, self._identifier, self.round, payload)
            self._message, self._message_round = icmp.encode_echo(echo), self.round
        return IcmpPacket(target, self._message), len(self._message) + HEADERS - 8

    def asked(self, packet: IcmpPacket) -> IPv4Address:
        """Its other side."""
        return packet.peer

    def heard(self, packet: IcmpPacket, now: float) -> Actions[IcmpPacket, Fact]:
        """An echo, or an error about one."""
        try:
            said = icmp.parse_answer(packet.message)
        except Malformed:
            return
        if said is None or said.identifier != self._identifier:
            return
        if isinstance(said, icmp.Undelivered):
            # This computer's own kernel says so, when ARP found nobody.
            own = packet.peer in self._own
            reason = BY_ARP if own else f"{said.reason}, says {packet.peer}"
            by = None if own else packet.peer
            self._undelivered(said.destination, said.sequence, said.reason, by, reason, now)
        elif said.is_reply:
            waiting = self._settled(packet.peer, said.sequence)
            if waiting is not None:
                seconds = max(now - waiting.sent, 0.0)
                yield Report(
                    Replied(
                        packet.peer,
                        said.sequence,
                        seconds,
                        packet.ttl,
                        waiting.sent,
                        waiting.octets,
                    )
                )
        self._plan_wake()
