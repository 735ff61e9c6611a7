"""What a series of echoes says: loss and times."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from ipaddress import IPv4Address
from statistics import median

from portcall.core.reach.ping import Replied, Unanswered


@dataclass(frozen=True, slots=True)
class Reachability:
    """A target's echoes summed up; times are seconds, None when nothing came back."""

    target: IPv4Address
    sent: int
    received: int
    shortest: float | None
    middle: float | None
    longest: float | None
    reason: str | None
    """Why echoes are missing, in the words that came most recently; None when none are."""

    @property
    def loss(self) -> float:
        """The share that did not come back, 0 to 1."""
        return 1 - self.received / self.sent if self.sent else 0.0

    @property
    def answers(self) -> bool:
        """True when at least one echo came back."""
        return self.received > 0


def summarise(
    targets: Iterable[IPv4Address], facts: Iterable[Replied | Unanswered]
) -> tuple[Reachability, ...]:
    """One summary a target, in the order of ``targets``."""
    times: dict[IPv4Address, list[float]] = {target: [] for target in targets}
    reasons: dict[IPv4Address, list[str]] = {target: [] for target in times}
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
            max(seconds, default=None),
            reasons[target][-1] if reasons[target] else None,
        )
        for target, seconds in times.items()
    )
