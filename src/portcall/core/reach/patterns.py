"""Conclusions from the pattern of a series, in words, when there is enough of it.

Each pattern is told only where chance does not make it: the tests' levels are such that of a
hundred series without any pattern one at most is said to have one. Needs numpy and scipy, which are
imported with this module, and only by who calls it.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from enum import StrEnum
from typing import Any, TypeAlias

import numpy as np
from scipy import stats

from portcall.core.reach.echo_facts import Target
from portcall.core.reach.series import Series

Array: TypeAlias = Any
"""A one-dimensional numpy array."""

_LEVEL = 1e-4
"""How rarely chance may look like a pattern, for each test."""

_FEWEST = 40
"""Questions below which nothing is said."""

_FEWEST_LOST = 4
_FEWEST_EVENTS = 5
_MOST_OFF = 0.06
"""Of a period: how far an event may be from its place, as a share of the period."""

_LONGEST_SKIP = 3
"""Periods that an event may be left out in a row."""

_BLOCKS = 20
_LEAST_DRIFT, _LEAST_DRIFT_SECONDS = 0.25, 0.0002
_LEAST_LEVEL_SHARE = 0.1
_LEVEL_DISTANCE = 4.0
_EMPTY_MIDDLE = 0.04
_TOGETHER = 0.8


class PatternKind(StrEnum):
    """The patterns; the names are part of ``reach --json``."""

    BURSTS = "bursts"
    PERIOD = "period"
    DRIFT = "drift"
    LEVELS = "levels"
    SIZE = "size"
    TOGETHER = "together"


@dataclass(frozen=True, slots=True)
class Pattern:
    """A pattern of one target, or of several that go together; ``period`` in seconds."""

    kind: PatternKind
    targets: tuple[Target, ...]
    sentence: str
    period: float | None = None


def patterns(series: Sequence[Series], named: Callable[[Target], str] = str) -> tuple[Pattern, ...]:
    """All that the series say, target by target, then what they have in common."""
    found: list[Pattern] = []
    for each in series:
        if len(each.at) >= _FEWEST:
            found += _of_one(each)
    found += _together(series, named)
    return tuple(found)


def _of_one(series: Series) -> Iterator[Pattern]:
    at, seconds = np.asarray(series.at), np.asarray(series.seconds)
    octets = np.asarray(series.octets)
    lost = np.isnan(seconds)
    one = (series.target,)
    size = _by_size(lost, octets)
    if size:
        yield Pattern(PatternKind.SIZE, one, size)
        # Echoes lost by their size say nothing about time.
        lost = np.zeros_like(lost)
    periodic = _period(at, lost, "loses") or _period(at, _slow(seconds), "is slow with")
    if periodic:
        yield Pattern(PatternKind.PERIOD, one, *periodic)
    elif not size and (words := _bursts(at, lost)):
        yield Pattern(PatternKind.BURSTS, one, words)
    if words := _levels(seconds):
        yield Pattern(PatternKind.LEVELS, one, words)
    elif words := _drift(at, seconds):
        yield Pattern(PatternKind.DRIFT, one, words)


# Losses in time.


def _runs(at: Array, marked: Array) -> list[tuple[float, float, int]]:
    """Marked questions that follow each other: when the first was, when the last, how many."""
    runs = []
    start = None
    for place, is_marked in enumerate([*marked, False]):
        if is_marked and start is None:
            start = place
        elif not is_marked and start is not None:
            runs.append((float(at[start]), float(at[place - 1]), place - start))
            start = None
    return runs


def _interval(at: Array) -> float:
    return float(np.median(np.diff(at))) if len(at) > 1 else 0.0


def _bursts(at: Array, lost: Array) -> str | None:
    """Losses that follow each other more than chance makes them (the runs test of Wald and
    Wolfowitz, with its exact distribution by the hypergeometric one).
    """
    count, total = int(lost.sum()), len(lost)
    if count < _FEWEST_LOST or count > total // 2:
        return None
    runs = _runs(at, lost)
    answered = total - count
    # The number of runs of losses, when their places are drawn at random.
    few = float(stats.hypergeom.cdf(len(runs), total, answered + 1, count))
    if few > _LEVEL or len(runs) == count:
        return None
    longest = max(runs, key=lambda run: run[2])
    lasts = longest[1] - longest[0] + _interval(at)
    if len(runs) == 1:
        return f"lost {count} in one go, for {lasts:.1f} s"
    return f"loses {count} in {len(runs)} bursts, the longest of {longest[2]} for {lasts:.1f} s"


def _period(at: Array, marked: Array, does: str) -> tuple[str, float] | None:
    """Events at the same distance again and again."""
    events = _merged(_runs(at, marked), 2.5 * _interval(at))
    if len(events) < _FEWEST_EVENTS or marked.sum() > len(marked) // 2:
        return None
    starts = np.array([event[0] for event in events])
    step = _interval(at)
    gaps = np.diff(starts)
    for guess in sorted({float(np.median(gaps)), float(gaps.min())}, reverse=True):
        period = _fitted(starts, guess, step)
        if period is not None:
            counts = sorted({event[2] for event in events})
            many = str(counts[0]) if len(counts) == 1 else f"{counts[0]} to {counts[-1]}"
            echoes = "echo" if many == "1" else "echoes"
            return f"{does} {many} {echoes} every {period:.1f} s", period
    return None


def _merged(
    runs: Sequence[tuple[float, float, int]], near: float
) -> list[tuple[float, float, int]]:
    """Runs with a gap that is no longer than ``near`` are one event."""
    merged: list[tuple[float, float, int]] = []
    for first, last, count in runs:
        if merged and first - merged[-1][1] <= near:
            before = merged[-1]
            merged[-1] = (before[0], last, before[2] + count)
        else:
            merged.append((first, last, count))
    return merged


def _fitted(starts: Array, guess: float, step: float) -> float | None:
    """The period on which all starts lie, found from a first guess; None when there is none."""
    if guess < 4 * step:
        return None
    turns = np.concatenate(([0], np.cumsum(np.round(np.diff(starts) / guess))))
    skipped = np.diff(turns)
    if skipped.min() < 1 or skipped.max() > _LONGEST_SKIP or skipped.mean() > 1.5:
        return None
    period, begin = np.polyfit(turns, starts, 1)
    off = np.abs(starts - begin - turns * period)
    # A time is no more exact than the interval between two questions.
    allowed = max(_MOST_OFF * period, 0.75 * step)
    if off.max() > allowed or allowed > 0.15 * period:
        return None
    # By chance, each gap would be this near to a whole number of periods.
    chance = (min(1.0, 4 * allowed / period) ** (len(starts) - 2)) * len(starts)
    return float(period) if chance < _LEVEL * 10 else None


def _slow(seconds: Array) -> Array:
    """Answers that take far longer than the others."""
    known = seconds[~np.isnan(seconds)]
    if len(known) < _FEWEST:
        return np.zeros(len(seconds), dtype=bool)
    middle = np.median(known)
    spread = np.median(np.abs(known - middle)) * 1.4826
    bar = max(3 * middle, middle + 12 * spread)
    return np.nan_to_num(seconds, nan=0.0) > bar


# Times.


def _blocks(at: Array, seconds: Array) -> tuple[Array, Array]:
    """Medians of blocks of equally many answers, and their times."""
    known = ~np.isnan(seconds)
    parts = np.array_split(np.flatnonzero(known), _BLOCKS)
    return (
        np.array([np.median(at[part]) for part in parts]),
        np.array([np.median(seconds[part]) for part in parts]),
    )


def _drift(at: Array, seconds: Array) -> str | None:
    """The median that rises or falls steadily (Kendall's rank correlation of blocks)."""
    if int((~np.isnan(seconds)).sum()) < 5 * _BLOCKS:
        return None
    times, middles = _blocks(at, seconds)
    rank, chance = stats.kendalltau(times, middles)
    if not chance < _LEVEL:
        return None
    first, last = float(np.median(middles[:4])), float(np.median(middles[-4:]))
    change = abs(last - first)
    if change < max(_LEAST_DRIFT * min(first, last), _LEAST_DRIFT_SECONDS) or abs(rank) < 0.6:
        return None
    verb = "rises" if last > first else "falls"
    lasts = float(at[-1] - at[0]) / 60
    return f"its median {verb} from {_ms(first)} to {_ms(last)} within {lasts:.0f} min"


def _levels(seconds: Array) -> str | None:
    """Two groups of times with hardly any between them."""
    known = seconds[~np.isnan(seconds)]
    if len(known) < 2 * _FEWEST:
        return None
    times = np.log(np.maximum(known, 1e-6))
    low, high = np.percentile(times, [10, 90])
    for _ in range(20):
        border = (low + high) / 2
        below, above = times[times <= border], times[times > border]
        if not len(below) or not len(above):
            return None
        low, high = below.mean(), above.mean()
    share = len(above) / len(times)
    if not _LEAST_LEVEL_SHARE <= share <= 1 - _LEAST_LEVEL_SHARE:
        return None
    spread = math.sqrt((below.var() + above.var()) / 2) or 1e-9
    distance = (high - low) / spread
    third = (high - low) / 3
    middle = float(((times > low + third) & (times < high - third)).mean())
    if distance < _LEVEL_DISTANCE or middle > _EMPTY_MIDDLE or high - low < 0.4:
        return None
    slow, quick = float(np.exp(np.median(above))), float(np.exp(np.median(below)))
    return (
        f"its times have two levels, {_ms(quick)} and {_ms(slow)} "
        f"({share:.0%} of them): two ways there, or one that is shared"
    )


def _ms(seconds: float) -> str:
    return f"{seconds * 1000:.2g} ms" if seconds < 0.01 else f"{seconds * 1000:.0f} ms"


# Sizes.


def _by_size(lost: Array, octets: Array) -> str | None:
    """Loss that goes with the length of the packet (Fisher's exact test)."""
    sizes = sorted({int(each) for each in octets if each})
    if len(sizes) < 2 or lost.sum() < _FEWEST_LOST:
        return None
    small, large = octets == sizes[0], octets == sizes[-1]
    table = [[int((lost & group).sum()), int((~lost & group).sum())] for group in (large, small)]
    _, chance = stats.fisher_exact(table)
    shares = [a / (a + b) if a + b else 0.0 for a, b in table]
    if not chance < _LEVEL or shares[0] < 3 * shares[1]:
        return None
    return (
        f"loses {shares[0]:.0%} of the packets of {sizes[-1]} octets, and {shares[1]:.0%} of those "
        f"of {sizes[0]}"
    )


# Several targets.


def _together(series: Sequence[Series], named: Callable[[Target], str]) -> list[Pattern]:
    """Targets whose losses come at the same moments, and those that never have any then."""
    usable = [each for each in series if len(each.at) >= _FEWEST]
    if len(usable) < 2:
        return []
    step = max(_interval(np.asarray(each.at)) for each in usable)
    begin = min(each.at[0] for each in usable)
    if not step:
        return []
    moments = [_moments(each, begin, step) for each in usable]
    total = max(int((each.at[-1] - begin) / step) + 1 for each in usable)
    groups: list[set[int]] = []
    for one in range(len(usable)):
        for other in range(one + 1, len(usable)):
            if _go_together(moments[one], moments[other], total, len(usable)):
                joined = [group for group in groups if one in group or other in group]
                groups = [group for group in groups if group not in joined]
                groups.append({one, other}.union(*joined))
    return [_group_pattern(group, usable, moments, named) for group in groups]


def _moments(series: Series, begin: float, step: float) -> set[int]:
    """The rounds in which a target lost something; a loss may fall on the edge of one."""
    lost = np.isnan(np.asarray(series.seconds))
    return {
        round((at - begin) / step) for at, is_lost in zip(series.at, lost, strict=True) if is_lost
    }


def _go_together(one: set[int], other: set[int], total: int, targets: int) -> bool:
    if min(len(one), len(other)) < _FEWEST_LOST or max(len(one), len(other)) > total // 2:
        return False
    near = {moment + off for moment in other for off in (-1, 0, 1)}
    both = len(one & near)
    if both < _TOGETHER * max(len(one), len(other)):
        return False
    chance = float(stats.hypergeom.sf(both - 1, total, min(len(near), total), len(one)))
    return chance * targets * targets < _LEVEL


def _group_pattern(
    group: set[int],
    usable: Sequence[Series],
    moments: Sequence[set[int]],
    named: Callable[[Target], str],
) -> Pattern:
    members = [usable[each].target for each in sorted(group)]
    shared = set.union(*(moments[each] for each in group))
    apart = [
        usable[each].target
        for each in range(len(usable))
        if each not in group and not moments[each] & shared
    ]
    listed = ", ".join(named(target) for target in members)
    words = f"these {len(members)} go at once: {listed}; look at what they share"
    if apart:
        words += f"; never with them: {', '.join(named(target) for target in apart)}"
    return Pattern(PatternKind.TOGETHER, tuple(members), words)
