"""Asking some targets again and again, in rounds, and keeping account of every question.

However many targets there are, and however long it goes on, each question costs the same.
"""

from __future__ import annotations

from abc import abstractmethod
from collections import deque
from collections.abc import Hashable, Iterator, Sequence
from typing import Generic, TypeAlias, TypeVar

from portcall.core.reach.echo_facts import NO_REPLY, Fact, Target, Unanswered, Undelivered
from portcall.core.talk.conversation import Actions, Conversation, Report, SendEach

P = TypeVar("P")
T = TypeVar("T", bound=Target)

ERROR_GRACE = 0.3
"""Seconds in which an answer may still come to what somebody calls undeliverable.

Anybody can say so; an answer is better evidence.
"""

_SEQUENCES = 0x10000
_Key: TypeAlias = tuple[Hashable, int]
"""What stands for a target, and the number of the round."""


class _Waiting:
    """A question that is out."""

    __slots__ = ("octets", "reason", "sent", "settling", "target", "told")

    def __init__(self, target: Target, sent: float, octets: int) -> None:
        self.target = target
        self.sent = sent
        self.octets = octets
        self.reason = NO_REPLY
        self.told: Undelivered | None = None
        self.settling = False
        """Somebody, or this computer itself, says that it is not delivered."""


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
        self._sending = False
        self._pending: dict[_Key, _Waiting] = {}
        self._due: deque[tuple[float, _Key]] = deque()
        """When each is given up, in the order in which they left."""
        self._graced: deque[tuple[float, _Key]] = deque()
        """Those that are called undeliverable, and until when each is waited for."""

    @abstractmethod
    def question(self, target: T) -> P | None:
        """The packet that asks a target now; None to leave it out this time."""

    @property
    def octets(self) -> int:
        """The length of this round's packets, where that is told."""
        return 0

    @abstractmethod
    def asked(self, packet: P) -> T:
        """The target that a packet asks."""

    def key(self, target: T) -> Hashable:
        """A key for a target, as it is looked up for every question."""
        return target

    def begin(self, now: float) -> Actions[P, Fact]:
        """Start the first round."""
        yield from self._next_round(now)

    def left(self, packet: P, now: float) -> Actions[P, Fact]:
        """A question is out; its time runs from here."""
        target = self.asked(packet)
        key = (self.key(target), self.round)
        self._pending[key] = _Waiting(target, now, self.octets)
        until = now + self._wait
        self._due.append((until, key))
        # Those before it are overdue sooner.
        if self.wake_at is None:
            self.wake_at = until
        return ()

    def all_left(self, now: float) -> Actions[P, Fact]:
        """The last question of a round is out."""
        self._sending = False
        self._plan_wake()
        return ()

    def unsent(self, packet: P, reason: str, now: float) -> Actions[P, Fact]:
        """The computer could not send it; that is the most useful reason of all."""
        yield Report(Unanswered(self.asked(packet), self.round, reason, at=now))

    def woke(self, now: float) -> Actions[P, Fact]:
        """Give up on what is overdue; start the next round when it is time."""
        self.wake_at = None
        for queue in (self._graced, self._due):
            while queue and (queue[0][0] <= now or queue[0][1] not in self._pending):
                _, key = queue.popleft()
                waiting = self._pending.pop(key, None)
                if waiting is not None:
                    yield Report(self._lost(key, waiting))
        if not self._sending and self._rounds_left != 0 and now >= self._round_at:
            yield from self._next_round(now)
        self._plan_wake()

    def _lost(self, key: _Key, waiting: _Waiting) -> Unanswered:
        return Unanswered(
            waiting.target,
            key[1],
            waiting.reason,
            waiting.told,
            waiting.sent,
            waiting.octets,
        )

    def _settled(self, target: T, number: int) -> _Waiting | None:
        """The question that was answered; None when it is none, or was given up."""
        return self._pending.pop((self.key(target), number), None)

    def _undelivered(
        self, target: T, number: int, told: Undelivered | None, reason: str, now: float
    ) -> None:
        """Somebody says that a question does not get there: it is not waited for much longer."""
        key = (self.key(target), number)
        waiting = self._pending.get(key)
        if waiting is None or waiting.settling:
            return
        waiting.settling, waiting.reason = True, reason
        if told is not None:
            waiting.told = told._replace(seconds=max(now - waiting.sent, 0.0))
        until = min(now + ERROR_GRACE, waiting.sent + self._wait)
        self._graced.append((until, key))

    def _next_round(self, now: float) -> Actions[P, Fact]:
        self.round = (self.round + 1) % _SEQUENCES
        if self._rounds_left is not None:
            self._rounds_left -= 1
        # Count from the round's own time, not from when the loop noticed it, so that rounds do not
        # drift.
        late = self._round_at and now - self._round_at < self._interval
        self._round_at = (self._round_at if late else now) + self._interval
        self._sending = True
        yield SendEach(self._questions())

    def _questions(self) -> Iterator[P]:
        for target in self._all:
            packet = self.question(target)
            if packet is not None:
                yield packet

    def _plan_wake(self) -> None:
        """Set ``wake_at``; waking early is cheaper than setting it anew for every packet."""
        pending = self._pending
        times = []
        for queue in (self._graced, self._due):
            while queue and queue[0][1] not in pending:
                queue.popleft()
            if queue:
                times.append(queue[0][0])
        if not self._sending and self._rounds_left != 0:
            times.append(self._round_at)
        earliest = min(times, default=None)
        if earliest is None or self.wake_at is None or earliest < self.wake_at:
            self.wake_at = earliest
        self.over = not self._sending and self._rounds_left == 0 and not pending
