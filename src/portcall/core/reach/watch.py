"""A long watch of some targets: the last minute, the times, the gaps. It does not grow."""

from __future__ import annotations

from collections import deque
from collections.abc import Sequence
from enum import StrEnum
from ipaddress import IPv4Address
from typing import NamedTuple

from portcall.core.reach.course import Course
from portcall.core.reach.echo_facts import Fact, Replied, Target
from portcall.core.reach.histogram import Histogram

MINUTE = 60
"""Seconds that are drawn."""

DOWN_AFTER = 2
"""Questions in a row that stay unanswered until a target is called down: one may be lost."""

_KNOWN_AFTER = 10
"""Answers after which the usual time is known well enough to call one slow."""

_SLOW_FACTOR, _SLOW_MORE = 3.0, 0.001
"""An answer is slow that takes so many times the median, and so many seconds more than it."""

_MEDIAN_EVERY = 16
"""Answers between two looks at the median, which takes longer than counting one."""


class SecondMark(StrEnum):
    """The state of one second, as it is drawn."""

    NOTHING = " "
    ANSWERED = "·"
    SLOW = "^"
    LOST = "x"


_RANK = {mark: rank for rank, mark in enumerate(SecondMark)}


class TargetChange(NamedTuple):
    """A target went down, or is up again after so many seconds; ``reason`` is why it is down."""

    target: Target
    is_up: bool
    at: float
    gap: float | None = None
    reason: str = ""


class TargetWatch:
    """One target."""

    __slots__ = (
        "_answered_at",
        "_in_a_row",
        "_marks",
        "_usual",
        "course",
        "is_up",
        "last",
        "longest_gap",
        "longest_gap_at",
        "lost",
        "reason",
        "sent",
        "target",
        "times",
    )

    def __init__(self, target: Target) -> None:
        self.target = target
        self.sent = self.lost = 0
        self.times = Histogram()
        self.course = Course()
        self.last: float | None = None
        """The latest answer's seconds; None when the latest question was not answered."""
        self.is_up: bool | None = None
        """None until it is known."""
        self.reason = ""
        self.longest_gap = 0.0
        self.longest_gap_at: float | None = None
        self._marks: deque[tuple[int, SecondMark]] = deque(maxlen=MINUTE)
        self._usual: float | None = None
        self._answered_at: float | None = None
        self._in_a_row = 0

    @property
    def loss(self) -> float:
        """The share that was not answered, 0 to 1."""
        return self.lost / self.sent if self.sent else 0.0

    def worst_gap(self, now: float) -> tuple[float, float] | None:
        """The longest gap, also one that is not over: its seconds, and when it began."""
        worst = None
        if self.longest_gap_at is not None:
            worst = (self.longest_gap, self.longest_gap_at)
        if self.is_up is False and self._answered_at is not None:
            lasts = now - self._answered_at
            if worst is None or lasts > worst[0]:
                worst = (lasts, self._answered_at)
        return worst

    def take(self, fact: Fact) -> TargetChange | None:
        """Count a fact about this target; gives a change when it is one."""
        self.sent += 1
        if isinstance(fact, Replied):
            self.course.add(fact.at, fact.seconds)
            return self._answered(fact)
        self.course.add(fact.at, None)
        self.lost += 1
        self.last, self.reason = None, fact.reason
        self._mark(fact.at, SecondMark.LOST)
        self._in_a_row += 1
        if self._in_a_row == DOWN_AFTER and self.is_up is not False:
            self.is_up = False
            return TargetChange(self.target, False, fact.at, None, fact.reason)
        return None

    def _answered(self, fact: Replied) -> TargetChange | None:
        self.times.add(fact.seconds)
        if self.times.total % _MEDIAN_EVERY == _KNOWN_AFTER:
            self._usual = self.times.quantile(0.5)
        slow = self._usual is not None and fact.seconds > max(
            self._usual * _SLOW_FACTOR, self._usual + _SLOW_MORE
        )
        self._mark(fact.at, SecondMark.SLOW if slow else SecondMark.ANSWERED)
        self.last = fact.seconds
        gap = None
        if self._in_a_row and self._answered_at is not None:
            gap = fact.at - self._answered_at
            if gap > self.longest_gap:
                self.longest_gap, self.longest_gap_at = gap, self._answered_at
        self._answered_at, self._in_a_row, was = fact.at, 0, self.is_up
        self.is_up = True
        return TargetChange(self.target, True, fact.at, gap) if was is not True else None

    def _mark(self, at: float, mark: SecondMark) -> None:
        """A second's mark is that of the worst that happened in it."""
        second = int(at)
        marks = self._marks
        for place in range(len(marks) - 1, -1, -1):
            known, worst = marks[place]
            if known == second:
                if _RANK[mark] > _RANK[worst]:
                    marks[place] = (second, mark)
                return
            if known < second:
                break
        marks.append((second, mark))

    def minute(self, now: float) -> str:
        """The last minute, a character a second, the latest on the right."""
        drawn = dict(self._marks)
        last = int(now)
        return "".join(drawn.get(s, SecondMark.NOTHING) for s in range(last - MINUTE + 1, last + 1))


class ReachWatch:
    """All targets of a watch."""

    def __init__(self, targets: Sequence[Target]) -> None:
        self.targets = {target: TargetWatch(target) for target in targets}
        # Hashing an address object takes long, so its number is the key.
        self._by_number = {
            int(target): each
            for target, each in self.targets.items()
            if isinstance(target, IPv4Address)
        }

    def take(self, fact: Fact) -> TargetChange | None:
        """Count a fact; gives a change when it is one."""
        target = fact.target
        if isinstance(target, IPv4Address):
            return self._by_number[int(target)].take(fact)
        return self.targets[target].take(fact)

    @property
    def all_up(self) -> bool:
        """Whether every target is known to answer."""
        return all(each.is_up for each in self.targets.values())

    @property
    def any_down(self) -> bool:
        """Whether one is known not to answer."""
        return any(each.is_up is False for each in self.targets.values())

    def is_lossy(self, percent: float) -> bool:
        """Whether one is down now, or sent back less than so many of 100."""
        answered = (each.sent - each.lost for each in self.targets.values())
        return self.any_down or any(
            came * 100 < each.sent * percent
            for came, each in zip(answered, self.targets.values(), strict=True)
        )

    def in_order(self) -> list[TargetWatch]:
        """The targets that are down first, else in the order in which they were named."""
        return sorted(self.targets.values(), key=lambda each: each.is_up is not False)
