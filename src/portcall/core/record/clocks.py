"""Which entries of a workstation are dated by a clock that was wrong, and when it was set.

What is written is in the order in which it was written, whatever the clock said. An entry that is
dated long after those that were written behind it, or long before those that were written ahead of
it, was dated by a wrong clock; so was one that is dated after the moment at which it is read.

That a clock was set is told by the time since the computer's start, which nobody sets. Which of the
two was wrong, the one before or the one after, it does not tell.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Iterable, Iterator, Sequence

TOLERANCE = 300.0
"""Seconds by which entries may be out of order: a clock that is put right does as much."""


def misdated(times: Sequence[float], now: float) -> list[bool]:
    """For each entry in the order of writing, whether its clock was wrong.

    ``times`` and ``now`` are seconds since 1970. The clock is believed of the largest number of
    entries that are in order, since a clock is wrong more rarely than right.
    """
    late = [at > now + TOLERANCE for at in times]
    order = _in_order([at for at, is_late in zip(times, late, strict=True) if not is_late])
    places = [place for place, is_late in enumerate(late) if not is_late]
    kept = {places[each] for each in order}
    if not kept:
        return late
    # Those between two that are believed are judged by them.
    before, highest = [0.0] * len(times), float("-inf")
    for place, at in enumerate(times):
        before[place] = highest
        if place in kept:
            highest = max(highest, at)
    wrong, lowest = list(late), float("inf")
    for place in range(len(times) - 1, -1, -1):
        at = times[place]
        if place in kept:
            lowest = min(lowest, at)
        elif not before[place] - TOLERANCE <= at <= lowest + TOLERANCE:
            wrong[place] = True
    return wrong


def settings_of_a_clock(
    entries: Iterable[tuple[int, float, str, float]],
) -> Iterator[tuple[int, float]]:
    """The first line behind each setting of the clock, and by how many seconds it was put on.

    ``entries`` are in the order of writing: line, seconds since 1970, which start of the computer
    it was, "" for unknown, and the seconds since that.
    """
    known: dict[str, float] = {}
    for line, at, boot, uptime in entries:
        if boot:
            started = at - uptime
            put_on = started - known.get(boot, started)
            if abs(put_on) > TOLERANCE:
                yield line, put_on
            known[boot] = started


def _in_order(times: Sequence[float]) -> list[int]:
    """The places of a longest run of times that never goes back, not necessarily side by side.

    Of several, the one whose places come first: what was written first is believed. By patience
    sorting from the end on, which tells how long a run can be that begins at each place.
    """
    greatest: list[float] = []
    lengths = [0] * len(times)
    for place in range(len(times) - 1, -1, -1):
        length = bisect_right(greatest, -times[place])
        if length == len(greatest):
            greatest.append(-times[place])
        else:
            greatest[length] = -times[place]
        lengths[place] = length + 1
    found: list[int] = []
    wanted = len(greatest)
    for place, at in enumerate(times):
        if lengths[place] == wanted and (not found or at >= times[found[-1]]):
            found.append(place)
            wanted -= 1
    return found
