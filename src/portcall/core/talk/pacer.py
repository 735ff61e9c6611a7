"""The pacer: a token bucket between the conversations and the wire. Plants are fragile."""

from __future__ import annotations

DEFAULT_PACE = 200.0
"""Packets a second for sweeps: a sweep of a /24 takes a second and a half."""

HIGHEST_PACE = 2000.0
"""A faster pace makes old devices drop packets that are meant for them."""

BURST_SECONDS = 0.06
_LARGEST_BURST = 12
"""How many packets may leave back to back:

as many as the pace has in this time, but never more than this number. Each burst wakes the computer
once, which costs more than the packets do; but a device has to take the whole burst.
"""

_KEPT_BACK = 0.1
"""The share of the pace that is held back:

a burst, and kernel replies that are counted only after they have left, would otherwise exceed the
pace in the busiest second.
"""


def sustained(pace: float) -> float:
    """The rate at which no second has more than ``pace`` packets on the wire, bursts included."""
    return pace * (1 - _KEPT_BACK)


class Pacer:
    """Allows ``rate`` packets a second, and at most ``burst`` of them back to back.

    Without ``burst``, as many may leave back to back as the rate has in ``burst_seconds``.
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
        # The bucket is kept as one number: the time when it will be full again. Each packet moves
        # that on by one gap.
        self._full_at = float("-inf")

    def ready_at(self, now: float) -> float:
        """The time, now or later, from which the next packet may leave."""
        return max(now, self._full_at - self._slack)

    def worth_waking_at(self, now: float) -> float:
        """The time from which nearly a whole burst may leave.

        Waking the computer for each packet would cost more than sending it.
        """
        return self.ready_at(now) + self._worth_it

    def spend(self, now: float) -> None:
        """A packet left at ``now``."""
        self._full_at = max(self._full_at, now) + self._gap
