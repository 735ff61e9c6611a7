"""Echo requests to any number of targets (RFC 792, Echo), and what became of each."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Sequence
from dataclasses import dataclass
from ipaddress import IPv4Address

from portcall.core.talk.conversation import Actions, Conversation, IcmpPacket, Report, Send
from portcall.core.wire import icmp
from portcall.core.wire.octets import Malformed

PAYLOAD = bytes(range(48))
"""48 octets make the frame 90 octets long; the pattern shows up in a capture."""


@dataclass(frozen=True, slots=True)
class Replied:
    """An echo came back: ``seconds`` is the round-trip time by the kernel's receive timestamp."""

    target: IPv4Address
    sequence: int
    seconds: float
    ttl: int | None


@dataclass(frozen=True, slots=True)
class Unanswered:
    """No echo came back in time, or something said why it will not.

    ``by`` is who said so, when it was another than this computer, and ``said`` what.
    """

    target: IPv4Address
    sequence: int
    reason: str
    by: IPv4Address | None = None
    said: str = ""


ERROR_GRACE = 0.3
"""Seconds in which an echo may still come back that somebody calls undeliverable.

Anybody can say so; an echo that is back is better evidence.
"""


@dataclass(slots=True)
class _Waiting:
    """A request that is out: when it left, until when it is waited for, and what was said of it."""

    sent: float
    until: float
    reason: str = "no reply"
    by: IPv4Address | None = None
    said: str = ""


class Ping(Conversation[IcmpPacket, Replied | Unanswered]):
    """Rounds of one request to each target, ``interval`` seconds apart; over when all are settled.

    ``identifier`` is what the socket puts in the messages; sequence numbers tell the rest: the
    first one is ``first``. ``own`` are this computer's addresses: an error that comes from one of
    them is its own. ``payload`` is what an echo carries.
    """

    def __init__(
        self,
        targets: Sequence[IPv4Address],
        identifier: int,
        count: int = 4,
        interval: float = 1.0,
        wait: float = 1.0,
        own: Collection[IPv4Address] = (),
        payload: bytes = PAYLOAD,
        first: int = 1,
    ) -> None:
        self._payload = payload
        self._all = tuple(dict.fromkeys(targets))
        self._identifier = identifier
        self._rounds_left = count
        self._interval = interval
        self._wait = wait
        self._own = frozenset(own)
        self._round = first - 1
        self._round_at = 0.0
        self._targets: Iterator[IPv4Address] = iter(())
        self._sending = False
        self._pending: dict[tuple[IPv4Address, int], _Waiting] = {}

    def begin(self, now: float) -> Actions[IcmpPacket, Replied | Unanswered]:
        """Start the first round."""
        yield from self._next_round(now)

    def left(self, packet: IcmpPacket, now: float) -> Actions[IcmpPacket, Replied | Unanswered]:
        """A request is out; its time runs from here."""
        self._pending[packet.peer, self._round] = _Waiting(now, now + self._wait)
        yield from self._next_request(now)

    def unsent(
        self, packet: IcmpPacket, reason: str, now: float
    ) -> Actions[IcmpPacket, Replied | Unanswered]:
        """The computer could not send it; that is the most useful reason of all."""
        yield Report(Unanswered(packet.peer, self._round, reason))
        yield from self._next_request(now)

    def heard(self, packet: IcmpPacket, now: float) -> Actions[IcmpPacket, Replied | Unanswered]:
        """An echo, or an error about one."""
        try:
            said = icmp.parse_answer(packet.message)
        except Malformed:
            return
        if said is None or said.identifier != self._identifier:
            return
        if isinstance(said, icmp.Undelivered):
            waiting = self._pending.get((said.destination, said.sequence))
            if waiting is not None:
                waiting.until = min(waiting.until, now + ERROR_GRACE)
                waiting.reason = f"{said.reason}, says {packet.peer}"
                waiting.by, waiting.said = packet.peer, said.reason
                if packet.peer in self._own:
                    # This computer's own kernel says so, when ARP found nobody.
                    waiting.by, waiting.reason = None, "nothing answers ARP at this address"
        elif said.is_reply:
            waiting = self._pending.pop((packet.peer, said.sequence), None)
            if waiting is not None:
                seconds = max(now - waiting.sent, 0.0)
                yield Report(Replied(packet.peer, said.sequence, seconds, packet.ttl))
        self._plan_wake()

    def woke(self, now: float) -> Actions[IcmpPacket, Replied | Unanswered]:
        """Give up on what is overdue; start the next round when it is time."""
        for (target, sequence), waiting in list(self._pending.items()):
            if waiting.until <= now:
                del self._pending[target, sequence]
                yield Report(Unanswered(target, sequence, waiting.reason, waiting.by, waiting.said))
        if not self._sending and self._rounds_left and now >= self._round_at:
            yield from self._next_round(now)
        self._plan_wake()

    def _next_round(self, now: float) -> Actions[IcmpPacket, Replied | Unanswered]:
        self._round = (self._round + 1) & 0xFFFF
        self._rounds_left -= 1
        self._round_at = now + self._interval
        self._targets = iter(self._all)
        self._sending = True
        yield from self._next_request(now)

    def _next_request(self, now: float) -> Actions[IcmpPacket, Replied | Unanswered]:
        target = next(self._targets, None)
        if target is None:
            self._sending = False
        else:
            echo = icmp.Echo(False, self._identifier, self._round, self._payload)
            yield Send(IcmpPacket(target, icmp.encode_echo(echo)))
        self._plan_wake()

    def _plan_wake(self) -> None:
        times = [waiting.until for waiting in self._pending.values()]
        if not self._sending and self._rounds_left:
            times.append(self._round_at)
        self.wake_at = min(times, default=None)
        self.over = not self._sending and not self._rounds_left and not self._pending
