"""Times counted by their size, in a room that does not grow with how many there are."""

from __future__ import annotations

import math
from array import array

_SHORTEST = 1e-6
_STEP = 1.04
_BUCKETS = 500
"""From 1 µs to over 100 s; a value that is read back is within 2 % of the true one."""

_WIDTH = math.log(_STEP)


class Histogram:
    """Counts times, in seconds; tells quantiles within 2 %."""

    __slots__ = ("_counts", "longest", "shortest", "total")

    def __init__(self) -> None:
        self._counts = array("I", bytes(4 * _BUCKETS))
        self.total = 0
        self.shortest = math.inf
        self.longest = 0.0

    def add(self, seconds: float) -> None:
        """Count one."""
        place = int(math.log(seconds / _SHORTEST) / _WIDTH) if seconds > _SHORTEST else 0
        self._counts[min(place, _BUCKETS - 1)] += 1
        self.total += 1
        if seconds > self.longest:
            self.longest = seconds
        if seconds < self.shortest:
            self.shortest = seconds

    def quantile(self, share: float) -> float | None:
        """The time that this share of them, 0 to 1, does not exceed; None when there are none."""
        if not self.total:
            return None
        wanted = max(1, math.ceil(share * self.total))
        seen = 0
        for place, count in enumerate(self._counts):
            seen += count
            if seen >= wanted:
                middle = _SHORTEST * _STEP ** (place + 0.5)
                return float(min(max(middle, self.shortest), self.longest))
        return self.longest
