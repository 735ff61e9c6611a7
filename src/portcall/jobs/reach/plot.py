"""Drawing a series of echoes: times over time, losses along the bottom, the distribution beside it.

Needs matplotlib, which is imported with this module. Readable in grey, and by who does not see
colours: what counts is told by place and shape.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from datetime import datetime
from ipaddress import IPv4Address
from pathlib import Path
from textwrap import fill
from typing import Any

import matplotlib as mpl
import matplotlib.dates as mpl_dates
from matplotlib import ticker
from matplotlib.backends.backend_agg import FigureCanvasAgg
from matplotlib.figure import Figure

from portcall.core.reach.echo_facts import Target, address_of
from portcall.core.reach.patterns import patterns
from portcall.core.reach.series import Series
from portcall.core.talk.conversation import Endpoint
from portcall.core.trouble import NotPossibleHere

MOST_DRAWN = 12
"""Targets in one drawing; the first ones that have something to show."""

_DARK, _GREY = "#1d2b38", "#8795a1"
_WIDTH, _ROW, _HEAD = 12.8, 1.9, 1.2


def draw(path: Path, series: Sequence[Series], names: Mapping[IPv4Address, str]) -> None:
    """Write the drawing, in the format that the file's name ends in; times are of the calendar.

    Raises NotPossibleHere.
    """

    def named(target: Target) -> str:
        name = names.get(address_of(target), str(address_of(target)))
        return f"{name}, port {target.port}" if isinstance(target, Endpoint) else name

    chosen = sorted(series, key=lambda each: -each.lost)[:MOST_DRAWN]
    chosen = [each for each in series if each in chosen and each.at]
    if not chosen:
        raise NotPossibleHere(f"{path}: there is no echo to draw")
    said = patterns(series, named)
    captions = [
        each.sentence if len(each.targets) > 1 else f"{named(each.targets[0])}: {each.sentence}"
        for each in said
    ]
    caption = fill("; ".join(captions), 150) if captions else "no pattern beyond chance"
    lines = caption.count("\n") + 1
    height = max(_HEAD + _ROW * len(chosen) + 0.25 * lines, 4.5)
    mpl.rcParams["svg.fonttype"] = "none"
    figure = Figure(figsize=(_WIDTH, height), layout="constrained")
    FigureCanvasAgg(figure)
    grid = figure.add_gridspec(len(chosen), 2, width_ratios=(6, 1))
    first: Any = None
    for row, each in enumerate(chosen):
        times = figure.add_subplot(grid[row, 0], sharex=first)
        first = first or times
        _draw_times(times, each, named(each.target), row == len(chosen) - 1)
        _draw_distribution(figure.add_subplot(grid[row, 1], sharey=times), each)
    figure.suptitle("Round-trip times, and what was lost", x=0.01, ha="left", color=_DARK)
    # A dollar sign in a name is no formula.
    figure.supxlabel(caption, x=0.01, ha="left", fontsize=10, color=_DARK, parse_math=False)
    try:
        figure.savefig(path, dpi=100)
    except OSError as error:
        raise NotPossibleHere(f"{path}: cannot be written: {error.strerror}") from None


def _draw_times(axes: Any, series: Series, name: str, is_last: bool) -> None:
    known = [(at, s * 1000) for at, s in zip(series.at, series.seconds, strict=True) if s == s]
    lost = [at for at, s in zip(series.at, series.seconds, strict=True) if s != s]
    axes.plot(
        [datetime.fromtimestamp(at) for at, _ in known],
        [ms for _, ms in known],
        linestyle="none",
        marker="o",
        markersize=2.4,
        color=_DARK,
        markeredgewidth=0,
    )
    axes.set_yscale("log")
    low, high = _bounds([ms for _, ms in known])
    axes.set_ylim(low, high)
    if lost:
        # Marks along the bottom: a cross for each, whatever the scale.
        axes.plot(
            [datetime.fromtimestamp(at) for at in lost],
            [0.04] * len(lost),
            linestyle="none",
            marker="x",
            markersize=6,
            markeredgewidth=1.6,
            color="black",
            transform=axes.get_xaxis_transform(),
        )
    share = len(lost) / len(series.at)
    axes.set_title(
        f"{name}: {len(lost)} of {len(series.at)} lost ({share:.1%}), marked x at the bottom"
        if lost
        else f"{name}: nothing lost of {len(series.at)}",
        loc="left",
        fontsize=10,
        color=_DARK,
        parse_math=False,
    )
    axes.set_ylabel("ms")
    axes.grid(True, which="major", axis="both", color=_GREY, alpha=0.3, linewidth=0.6)
    axes.yaxis.set_major_locator(ticker.LogLocator(base=10, subs=(1, 2, 5)))
    axes.yaxis.set_major_formatter(lambda value, place: f"{value:g}")
    axes.yaxis.set_minor_formatter(lambda value, place: "")
    dates: Any = mpl_dates
    locator = dates.AutoDateLocator()
    axes.xaxis.set_major_locator(locator)
    axes.xaxis.set_major_formatter(dates.ConciseDateFormatter(locator))
    axes.tick_params(labelbottom=is_last)
    for side in ("top", "right"):
        axes.spines[side].set_visible(False)


def _bounds(values: Sequence[float]) -> tuple[float, float]:
    """A scale with room for the marks below the times."""
    low = min(values, default=0.1) or 0.001
    high = max(values, default=10.0)
    decades = max(math.log10(high / low), 0.5)
    return low / 10 ** (0.25 * decades), high * 10 ** (0.15 * decades)


def _draw_distribution(axes: Any, series: Series) -> None:
    known = sorted(s * 1000 for s in series.seconds if s == s)
    if known:
        low, high = max(known[0], 1e-3), known[-1] * 1.01 + 1e-6
        steps = 28
        edges = [low * (high / low) ** (n / steps) for n in range(steps + 1)]
        axes.hist(known, bins=edges, orientation="horizontal", color=_GREY)
        middle = known[len(known) // 2]
        axes.axhline(middle, color=_DARK, linewidth=1.2)
        axes.set_title(f"median {middle:.3g} ms", loc="left", fontsize=9, color=_DARK)
    axes.tick_params(labelleft=False, labelbottom=False, bottom=False)
    for side in ("top", "right", "bottom"):
        axes.spines[side].set_visible(False)
