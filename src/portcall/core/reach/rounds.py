"""Asking some targets again and again, in rounds, and keeping account of every question.

However many targets there are, and however long it goes on, each question costs the same.
"""

from __future__ import annotations

from abc import abstractmethod
from collections import deque
from collections.abc import Iterator, Sequence
from ipaddress import IPv4Address
from typing import Generic, TypeVar

from portcall.core.reach.echo_facts import NO_REPLY, Fact, Target, Unanswered
from portcall.core.talk.conversation import Actions, Conversation, Report, Send

P = TypeVar("P")
T = TypeVar("T", bound=Target)

ERROR_GRACE = 0.3
"""Seconds in which an answer may still come to what somebody calls undeliverable.

Anybody can say so; an answer is better evidence.
"""

_SEQUENCES = 0x10000


class _Waiting:
    """A question that is out."""

    __slots__ = ("by", "octets", "reason", "said", "sent")

    def __init__(self, sent: float, octets: int) -> None:
        self.sent = sent
        self.octets = octets
        self.reason = NO_REPLY
        self.by: IPv4Address | None = None
        self.said = ""


class Rounds(Conversation[P, Fact], Generic[P, T]):
    """Rounds of one question to each target, ``interval`` seconds apart.

    With a ``count`` it is over when so many rounds are settled; without, never. The first round has
    the number ``first``. A round that takes longer than the interval is followed by the next at
    once.
    """

    def __init__(
        self,
        targets: Sequence[T],
        count: int | None,
        interval: float,
        wait: float,
        first: int = 1,
    ) -> None:
        self._all = tuple(dict.fromkeys(targets))
        self._rounds_left = count
        self._interval = interval
        self._wait = wait
        self.round = first - 1
        self._round_at = 0.0
        self._targets: Iterator[T] = iter(())
        self._sending = False
        self._pending: dict[tuple[T, int], _Waiting] = {}
        self._due: deque[tuple[float, tuple[T, int]]] = deque()
        """When each is given up, in the order in which they left."""
        self._graced: deque[tuple[float, tuple[T, int]]] = deque()
        """Those that are called undeliverable, and until when each is waited for."""

    @abstractmethod
    def question(self, target: T) -> tuple[P, int] | None:
        """The packet that asks a target now, and its octets; None to leave it out this time."""

    @abstractmethod
    def asked(self, packet: P) -> T:
        """The target that a packet asks."""

    def begin(self, now: float) -> Actions[P, Fact]:
        """Start the first round."""
        yield from self._next_round(now)

    def left(self, packet: P, now: float) -> Actions[P, Fact]:
        """A question is out; its time runs from here."""
        key = (self.asked(packet), self.round)
        self._pending[key] = _Waiting(now, self._octets)
        self._due.append((now + self._wait, key))
        yield from self._next_question(now)

    def unsent(self, packet: P, reason: str, now: float) -> Actions[P, Fact]:
        """The computer could not send it; that is the most useful reason of all."""
        yield Report(Unanswered(self.asked(packet), self.round, reason, at=now))
        yield from self._next_question(now)

    def woke(self, now: float) -> Actions[P, Fact]:
        """Give up on what is overdue; start the next round when it is time."""
        for queue in (self._graced, self._due):
            while queue and (queue[0][0] <= now or queue[0][1] not in self._pending):
                _, key = queue.popleft()
                waiting = self._pending.pop(key, None)
                if waiting is not None:
                    yield Report(self._lost(key, waiting))
        if not self._sending and self._rounds_left != 0 and now >= self._round_at:
            yield from self._next_round(now)
        self._plan_wake()

    def _lost(self, key: tuple[T, int], waiting: _Waiting) -> Unanswered:
        target, number = key
        return Unanswered(
            target,
            number,
            waiting.reason,
            waiting.by,
            waiting.said,
            waiting.sent,
            waiting.octets,
        )

    def _settled(self, target: T, number: int) -> _Waiting | None:
        """The question that was answered; None when it is none, or was given up."""
        return self._pending.pop((target, number), None)

    def _undelivered(
        self, target: T, number: int, said: str, by: IPv4Address | None, reason: str, now: float
    ) -> None:
        """Somebody says that a question does not get there: it is not waited for much longer."""
        waiting = self._pending.get((target, number))
        if waiting is None or waiting.said:
            return
        waiting.said, waiting.by, waiting.reason = said, by, reason
        until = min(now + ERROR_GRACE, waiting.sent + self._wait)
        self._graced.append((until, (target, number)))

    def _next_round(self, now: float) -> Actions[P, Fact]:
        self.round = (self.round + 1) % _SEQUENCES
        if self._rounds_left is not None:
            self._rounds_left -= 1
        # From its own time and not from when it was noticed, so that rounds do not drift.
        late = self._round_at and now - self._round_at < self._interval
        self._round_at = (self._round_at if late else now) + self._interval
        self._targets = iter(self._all)
        self._sending = True
        yield from self._next_question(now)

    def _next_question(self, now: float) -> Actions[P, Fact]:
        for target in self._targets:
            asked = self.question(target)
            if asked is not None:
                packet, self._octets = asked
                yield Send(packet)
                break
        else:
            self._sending = False
        self._plan_wake()

    _octets = 0

    def _plan_wake(self) -> None:
        pending = self._pending
        times = []
        for queue in (self._graced, self._due):
            while queue and queue[0][1] not in pending:
                queue.popleft()
            if queue:
                times.append(queue[0][0])
        if not self._sending and self._rounds_left != 0:
            times.append(self._round_at)
        self.wake_at = min(times, default=None)
        self.over = not self._sending and self._rounds_left == 0 and not pending
