"""How a watch went over time, in few spans: a room that does not grow with how long it lasts."""

from __future__ import annotations

from typing import NamedTuple

MOST = 120
"""Spans that are kept; when there are more, each two become one."""

_FIRST = 1.0
"""Seconds of a span at first."""


class Span(NamedTuple):
    """The questions of one span; times in seconds, None where nothing came back."""

    sent: int = 0
    lost: int = 0
    total: float = 0.0
    shortest: float | None = None
    longest: float | None = None

    def with_answer(self, seconds: float | None) -> Span:
        """And one more question, answered after so many seconds; None: not answered."""
        if seconds is None:
            return self._replace(sent=self.sent + 1, lost=self.lost + 1)
        return self.joined(Span(1, 0, seconds, seconds, seconds))

    def joined(self, other: Span) -> Span:
        """This and another one."""
        short = [each for each in (self.shortest, other.shortest) if each is not None]
        long = [each for each in (self.longest, other.longest) if each is not None]
        return Span(
            self.sent + other.sent,
            self.lost + other.lost,
            self.total + other.total,
            min(short, default=None),
            max(long, default=None),
        )

    @property
    def mean(self) -> float | None:
        """The mean of the times."""
        answered = self.sent - self.lost
        return self.total / answered if answered else None


class Course:
    """Spans of ``width`` seconds from ``began`` on; None until there is something."""

    __slots__ = ("began", "spans", "width")

    def __init__(self) -> None:
        self.began: float | None = None
        self.width = _FIRST
        self.spans: list[Span] = []

    def add(self, at: float, seconds: float | None) -> None:
        """Count a question of ``at``; what comes late belongs to the first span at least."""
        if self.began is None:
            self.began = at
        place = max(int((at - self.began) / self.width), 0)
        while place >= MOST:
            self.spans.extend([Span()] * (len(self.spans) % 2))
            pairs = zip(self.spans[::2], self.spans[1::2], strict=True)
            self.spans = [one.joined(other) for one, other in pairs]
            self.width *= 2
            place = int((at - self.began) / self.width)
        self.spans.extend([Span()] * (place + 1 - len(self.spans)))
        self.spans[place] = self.spans[place].with_answer(seconds)
