"""The pacer: a token bucket between the conversations and the wire. Plants are fragile."""

from __future__ import annotations

DEFAULT_PACE = 200.0
"""Packets a second for sweeps: a sweep of a /24 takes a second and a half."""

HIGHEST_PACE = 2000.0
"""Above this, old devices drop what is meant for them."""

BURST_SECONDS = 0.06
_LARGEST_BURST = 12
"""What may leave back to back is what the pace has for this time, and never more than this: each
burst wakes the computer once, which costs it more than the packets do, and a device has to take it.
"""

_KEPT_BACK = 0.1
"""Of a pace: in the busiest second a burst comes on top, and what the kernel says to the answers,
which is counted only when it has left."""


def sustained(pace: float) -> float:
    """The rate of a pacer under which no second has more than ``pace`` packets on the wire."""
    return pace * (1 - _KEPT_BACK)


class Pacer:
    """Allows ``rate`` packets a second and at most ``burst`` of them back to back.

    Without ``burst`` that is what the rate has in ``burst_seconds``.
    """

    def __init__(
        self,
        rate: float = DEFAULT_PACE,
        burst: int | None = None,
        burst_seconds: float = BURST_SECONDS,
    ) -> None:
        if burst is None:
            burst = max(1, min(_LARGEST_BURST, int(rate * burst_seconds)))
        if rate <= 0 or burst < 1:
            raise ValueError("a pace is above 0 packets a second, a burst at least 1")
        self._gap = 1.0 / rate
        self._slack = (burst - 1) * self._gap
        self._worth_it = max(0, burst - 2) * self._gap
        # The bucket as one number: when it will be full again. A packet moves it on by one gap.
        self._full_at = float("-inf")

    def ready_at(self, now: float) -> float:
        """The time, now or later, from which the next packet may leave."""
        return max(now, self._full_at - self._slack)

    def worth_waking_at(self, now: float) -> float:
        """The time from which nearly a burst may leave: waking for each packet costs more than
        sending it."""
        return self.ready_at(now) + self._worth_it

    def spend(self, now: float) -> None:
        """A packet left at ``now``."""
        self._full_at = max(self._full_at, now) + self._gap
