"""The views of ``reach --watch``: a redrawn line for each target, lines of changes, or JSON."""

from __future__ import annotations

import sys
from collections import deque
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import datetime
from time import monotonic
from typing import Any

import click
from rich.console import Group
from rich.live import Live
from rich.table import Table
from rich.text import Text

from portcall.cli.say import print_json_line, wants_json
from portcall.cli.table import console
from portcall.cli.views.reach import Names, name_of
from portcall.core.finding import as_json
from portcall.core.reach.echo_facts import Target, address_of
from portcall.core.reach.watch import MINUTE, SecondMark, TargetChange, TargetWatch
from portcall.core.talk.conversation import Endpoint
from portcall.jobs.reach.watching import EchoWatch, LinkChange, Reason, wall_time

_RECENT = 5
_MARK_STYLES = {
    SecondMark.ANSWERED: "green",
    SecondMark.SLOW: "bold yellow",
    SecondMark.LOST: "bold red",
    SecondMark.NOTHING: "",
}
_LEAST_DRAWN = 10
_OTHER_COLUMNS = 10 + 7 + 7 + 5 + 15
"""Characters that now, median, 99th percentile, loss and the longest gap take, with their gaps."""

_ROWS_BESIDE = 6 + _RECENT


@contextmanager
def watch_view(adapter: str, names: Names) -> Iterator[View]:
    """JSON lines when asked for, a picture that is redrawn on a terminal, else lines."""
    if wants_json():
        yield _JsonView(adapter, names)
    elif sys.stdout.isatty():
        with Live(console=console(), auto_refresh=False) as live:
            yield _LiveView(adapter, names, live)
    else:
        yield View(adapter, names)


class View:
    """One line a change."""

    def __init__(self, adapter: str, names: Names) -> None:
        self.adapter = adapter
        self.names = names
        self.watching: EchoWatch | None = None

    def show(self, watching: EchoWatch) -> None:
        """Show this from now on."""
        self.watching = watching

    def tell(self, fact: object) -> None:
        """Something changed."""
        click.echo(self.line(fact))
        sys.stdout.flush()

    def refreshed(self) -> None:
        """The picture may be drawn again."""

    def line(self, fact: object) -> str:
        """A change in words, with the time."""
        if isinstance(fact, TargetChange):
            name = name_of(fact.target, self.names)
            gap = f" after {fact.gap:.1f} s" if fact.gap is not None else ""
            words = f"up{gap}" if fact.is_up else f"DOWN: {fact.reason}"
            return f"{self.wall(fact.at):%H:%M:%S}  {name} {words}"
        if isinstance(fact, Reason):
            fact = f"{name_of(fact.target, self.names)}: {fact.finding}"
        return f"{datetime.now():%H:%M:%S}  {fact}"

    def wall(self, at: float) -> datetime:
        """A moment of the monotonic clock, as a clock on the wall shows it."""
        return wall_time(at).astimezone()

    def print_end(self) -> None:
        """Print the sums, a line for each target."""
        if self.watching is None:
            return
        for each in self.watching.watch.targets.values():
            click.echo(self.summary(each))
        self.print_share()

    def summary(self, each: TargetWatch) -> str:
        """A target's sums in a line."""
        median, high = each.times.quantile(0.5), each.times.quantile(0.99)
        gap = self.gap(each)
        parts = [
            f"{name_of(each.target, self.names)}: {each.sent - each.lost} of {each.sent}",
            f"{each.loss:.1%} lost",
            f"median {_ms(median)}, 99 of 100 within {_ms(high)}" if median else "",
            f"longest gap {gap}" if gap else "",
        ]
        return ", ".join(part for part in parts if part)

    def gap(self, each: TargetWatch) -> str:
        """The longest gap and when it began; "" for none."""
        worst = each.worst_gap(monotonic())
        return f"{_seconds(worst[0])} {self.wall(worst[1]):%H:%M:%S}" if worst else ""

    def share(self) -> str:
        """Of two targets, how the second differs: behind a radio, the radio's share; else ""."""
        assert self.watching is not None
        both = list(self.watching.watch.targets.values())
        if len(both) != 2:
            return ""
        near, far = (each.times.quantile(0.5) for each in both)
        if near is None or far is None:
            return ""
        first, second = (name_of(each.target, self.names) for each in both)
        takes = f"{_ms(abs(far - near))} {'more' if far >= near else 'less'}"
        lost = both[1].loss - both[0].loss
        loses = f"{abs(lost):.1%} {'more' if lost >= 0 else 'less'}"
        return f"{second} takes {takes} than {first} (medians), and loses {loses}"

    def print_share(self) -> None:
        """The difference of two, when there are two."""
        words = self.share()
        if words:
            click.echo(words)


class _JsonView(View):
    """One line of JSON a change, and one a target at the end."""

    def tell(self, fact: object) -> None:
        """Something changed."""
        if isinstance(fact, TargetChange):
            print_json_line(
                {
                    "event": "up" if fact.is_up else "down",
                    "at": _rfc3339(self.wall(fact.at)),
                    **_where(fact.target, self.names),
                    "gap_s": None if fact.gap is None else round(fact.gap, 3),
                    "reason": fact.reason or None,
                }
            )
        elif isinstance(fact, Reason):
            where = _where(fact.target, self.names)
            told = as_json(fact.finding)
            told = {"code": told["code"], "values": told["values"]}
            print_json_line({"event": "reason", **where, "reason": str(fact.finding), **told})
        elif isinstance(fact, LinkChange):
            event = "link back" if fact.has_link else "link lost"
            print_json_line({"event": event, "adapter": fact.adapter})

    def print_end(self) -> None:
        """The sums."""
        assert self.watching is not None
        for each in self.watching.watch.targets.values():
            gap, at = each.worst_gap(monotonic()) or (None, None)
            print_json_line(
                {
                    "event": "summary",
                    **_where(each.target, self.names),
                    "sent": each.sent,
                    "received": each.sent - each.lost,
                    "median_ms": _rounded(each.times.quantile(0.5)),
                    "p99_ms": _rounded(each.times.quantile(0.99)),
                    "longest_gap_s": None if gap is None else round(gap, 3),
                    "longest_gap_at": _rfc3339(self.wall(at)) if at is not None else None,
                }
            )


class _LiveView(View):
    """A line a target, redrawn in place; those that are down on top."""

    def __init__(self, adapter: str, names: Names, live: Live) -> None:
        super().__init__(adapter, names)
        self._live = live
        self._recent: deque[str] = deque(maxlen=_RECENT)

    def tell(self, fact: object) -> None:
        """Something changed."""
        self._recent.append(self.line(fact))

    def refreshed(self) -> None:
        """Draw again."""
        if self.watching is not None:
            self._live.update(self._picture(self.watching), refresh=True)

    def print_end(self) -> None:
        """The picture stays; what it does not have is said below it."""

    def _picture(self, watching: EchoWatch) -> Group:
        out = self._live.console
        listed = watching.watch.in_order()
        room = max(1, out.height - _ROWS_BESIDE)
        shown, hidden = listed[:room], len(listed) - room
        width = max((len(name_of(each.target, self.names)) for each in shown), default=0)
        width = min(max(width, 6), 24)
        drawn = min(MINUTE, out.width - width - _OTHER_COLUMNS - 4)
        table = Table(box=None, pad_edge=False, padding=(0, 1, 0, 0), header_style="bold")
        table.add_column("TARGET", width=width, no_wrap=True, overflow="ellipsis")
        if drawn >= _LEAST_DRAWN:
            table.add_column("LAST MINUTE", width=drawn, no_wrap=True)
        for header, cells in (("NOW ms", 6), ("MEDIAN", 6), ("99 %", 6), ("LOST", 4)):
            table.add_column(header, width=cells, justify="right", no_wrap=True)
        table.add_column("LONGEST GAP", width=17, no_wrap=True)
        now = monotonic()
        for each in shown:
            table.add_row(*self._cells(each, now, drawn))
        state = "" if watching.has_link else f"   NO LINK on {self.adapter}"
        lines = [Text(line, no_wrap=True) for line in self._recent]
        more = [Text(f"and {hidden} more that answer", "bright_black")] if hidden > 0 else []
        share = self.share()
        return Group(
            Text(self._head(watching, now), "bright_black") + Text(state, "bold red"),
            table,
            *more,
            *([Text(share)] if share else []),
            Text(""),
            *lines,
        )

    def _head(self, watching: EchoWatch, now: float) -> str:
        down = sum(each.is_up is False for each in watching.watch.targets.values())
        lasts = int(now - watching.began)
        key = f"{SecondMark.ANSWERED} answered  {SecondMark.SLOW} slow  {SecondMark.LOST} lost"
        shown = f"{lasts // 60}:{lasts % 60:02}"
        return f"{shown} on {self.adapter}, {down} down   {key}   Ctrl-C ends it"

    def _cells(self, each: TargetWatch, now: float, drawn: int) -> list[Any]:
        style = "bold red" if each.is_up is False else "bold"
        cells: list[Any] = [Text(name_of(each.target, self.names), style)]
        if drawn >= _LEAST_DRAWN:
            cells.append(_drawn(each.minute(now), drawn))
        current = _short(each.last) if each.last is not None else "–"
        cells += [current, _short(each.times.quantile(0.5)), _short(each.times.quantile(0.99))]
        cells.append(Text(f"{each.loss:.0%}", "red" if each.lost else ""))
        cells.append(self.gap(each) or "–")
        return cells


def _drawn(minute: str, width: int) -> Text:
    """The last minute in so many characters, each the worst of its seconds."""
    ranks = {mark: rank for rank, mark in enumerate(SecondMark)}
    text = Text()
    for n in range(width):
        part = minute[n * MINUTE // width : max((n + 1) * MINUTE // width, n * MINUTE // width + 1)]
        mark = max((SecondMark(character) for character in part), key=ranks.__getitem__)
        text.append(mark, _MARK_STYLES[mark])
    return text


def _where(target: Target, names: Names) -> dict[str, object]:
    address = address_of(target)
    return {
        "address": str(address),
        "door": target.port if isinstance(target, Endpoint) else None,
        "name": names.get(address),
    }


def _rfc3339(at: datetime) -> str:
    from datetime import UTC

    return at.astimezone(UTC).isoformat(timespec="milliseconds").replace("+00:00", "Z")


def _rounded(seconds: float | None) -> float | None:
    return None if seconds is None else round(seconds * 1000, 3)


def _ms(seconds: float | None) -> str:
    return "–" if seconds is None else f"{seconds * 1000:.2f} ms"


def _short(seconds: float | None) -> str:
    """Milliseconds in six characters."""
    if seconds is None:
        return "–"
    value = seconds * 1000
    return f"{value:.2f}" if value < 100 else f"{value:.0f}"


def _seconds(seconds: float) -> str:
    return f"{seconds:.1f} s" if seconds < 60 else f"{seconds / 60:.0f} min"
