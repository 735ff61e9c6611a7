"""Sums of a series of questions: loss and times."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from statistics import median

from portcall.core.finding import Finding
from portcall.core.reach.echo_facts import Fact, Replied, Target

_HIGH = 0.99


@dataclass(frozen=True, slots=True)
class Reachability:
    """A target's questions summed up; times are seconds, None when nothing came back."""

    target: Target
    sent: int
    received: int
    shortest: float | None
    middle: float | None
    high: float | None
    """What 99 of 100 do not exceed."""
    longest: float | None
    reason: str | None
    """Why answers are missing, in the words that came most recently; None when none are."""
    known: Finding | None = None
    """What else is known of why it does not answer."""
    is_own: bool = False
    """Whether that is this computer's own doing: it tells nothing of the target then."""

    @property
    def because(self) -> str | None:
        """Why answers are missing, as far as that is known."""
        return str(self.known) if self.known is not None else self.reason

    @property
    def loss(self) -> float:
        """The share that did not come back, 0 to 1."""
        return 1 - self.received / self.sent if self.sent else 0.0

    def came_back(self, percent: float) -> bool:
        """Whether questions were asked, and at least so many of 100 were answered."""
        return self.sent > 0 and self.received * 100 >= self.sent * percent

    @property
    def answers(self) -> bool:
        """True when at least one was answered."""
        return self.received > 0


def summarise(targets: Iterable[Target], facts: Iterable[Fact]) -> tuple[Reachability, ...]:
    """One summary a target, in the order of ``targets``."""
    times: dict[Target, list[float]] = {target: [] for target in targets}
    reasons: dict[Target, list[str]] = {target: [] for target in times}
    for fact in facts:
        if isinstance(fact, Replied):
            times[fact.target].append(fact.seconds)
        else:
            reasons[fact.target].append(fact.reason)
    return tuple(
        Reachability(
            target,
            len(seconds) + len(reasons[target]),
            len(seconds),
            min(seconds, default=None),
            median(seconds) if seconds else None,
            _share(seconds, _HIGH),
            max(seconds, default=None),
            reasons[target][-1] if reasons[target] else None,
        )
        for target, seconds in times.items()
    )


def _share(seconds: Sequence[float], share: float) -> float | None:
    if not seconds:
        return None
    ordered = sorted(seconds)
    return ordered[min(int(share * len(ordered)), len(ordered) - 1)]
