"""Showing tables on stdout, as wide as there is room for."""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterable, Mapping, Sequence
from typing import TypeVar

from rich.cells import cell_len, set_cell_size
from rich.console import Console, ConsoleOptions, RenderResult
from rich.segment import Segment, Segments
from rich.table import Table
from rich.text import Text

T = TypeVar("T")

_PIPE_WIDTH = 240
"""The width when standard output is no terminal: a file or another program wants whole lines."""


def console() -> Console:
    """A console on stdout that takes text as it is: no markup, no emoji codes, no guessing."""
    width = None if sys.stdout.isatty() else _PIPE_WIDTH
    return Console(width=width, markup=False, emoji=False, highlight=False)


class Columns(Table):
    """A table without lines, whose rows stay one line each however narrow the terminal is.

    When it is too wide, the columns in ``drops`` go first, from the last one on; then the column
    ``shrinks`` becomes narrower. What identifies a device is never cut.
    """

    def __init__(self, *headers: str, drops: Sequence[str] = (), shrinks: str = "") -> None:
        super().__init__(box=None, pad_edge=False, padding=(0, 2, 0, 0), header_style="bold")
        self._drops = [header.upper() for header in drops]
        self._made_of = (headers, tuple(drops), shrinks)
        for header in headers:
            # Rich narrows the columns that may wrap; the cells themselves never do.
            self.add_column(header.upper(), no_wrap=header != shrinks, overflow="ellipsis")

    def fit(self, widths: Sequence[int], told: Sequence[bool], room: int) -> dict[int, int]:
        """Which columns are shown, by number, each with its width, for cells this wide.

        A column that may give way does so, too, when none of its cells says something.
        """
        headers, drops, shrinks = self._made_of
        shown = {
            n: max(len(header), width)
            for n, (header, width, says) in enumerate(zip(headers, widths, told, strict=True))
            if says or header not in (*drops, shrinks)
        }
        for header in reversed(drops):
            if _breadth(shown) > room:
                shown.pop(headers.index(header), None)
        n = headers.index(shrinks) if shrinks else -1
        if n in shown and (excess := _breadth(shown) - room) > 0:
            shown[n] = max(len(shrinks), shown[n] - excess)
        return shown

    def __rich_console__(self, console: Console, options: ConsoleOptions) -> RenderResult:
        """Drop what there is no room for, then draw."""
        everything = self.columns
        drops = list(self._drops)
        wide = options.update(max_width=_PIPE_WIDTH)
        while drops and self.__rich_measure__(console, wide).maximum > options.max_width:
            dropped = drops.pop()
            self.columns = [column for column in self.columns if column.header != dropped]
        yield from super().__rich_console__(console, options)
        self.columns = everything


NOTHING = "–"
"""What a cell shows of which nothing is known."""

INDENT = 4

_GAP = 2
"""Between two columns."""

_AT_ONCE = 500
"""Rows that are written at a time: a list may have 65,534."""


def print_rows(
    columns: Columns,
    rows: Sequence[T],
    cells_of: Callable[[T], Sequence[Text]],
    remarks_of: Callable[[T], Sequence[str]] = lambda row: (),
) -> None:
    """Print a table with the remarks on each row below it; lines to copy from them stay unbroken.

    Lines that never wrap need no layout engine: with one, a long list takes minutes.
    """
    out = console()
    headers = [Text(str(column.header), "bold") for column in columns.columns]
    widths, told = _measure(len(headers), map(cells_of, rows))
    room = out.width  # Asks the terminal: once is enough.
    shown = columns.fit(widths, told, room)
    out.print(Segments(_line(out, headers, shown)), end="", soft_wrap=True)
    for start in range(0, len(rows), _AT_ONCE):
        segments: list[Segment] = []
        for row in rows[start : start + _AT_ONCE]:
            segments += _line(out, cells_of(row), shown)
            for remark in remarks_of(row):
                segments += _remark(out, remark, room)
        out.print(Segments(segments), end="", soft_wrap=True)


def _measure(columns: int, rows: Iterable[Sequence[Text]]) -> tuple[list[int], list[bool]]:
    """The width of each column, and whether any of its cells says something."""
    widths, told = [0] * columns, [False] * columns
    for cells in rows:
        for n, each in enumerate(cells):
            widths[n] = max(widths[n], cell_len(each.plain))
            told[n] = told[n] or each.plain != NOTHING
    return widths, told


def _breadth(shown: Mapping[int, int]) -> int:
    return sum(shown.values()) + _GAP * (len(shown) - 1)


def _line(out: Console, cells: Sequence[Text], shown: Mapping[int, int]) -> list[Segment]:
    segments = []
    for n, width in shown.items():
        text, style = cells[n].plain, out.get_style(cells[n].style)
        room = width - cell_len(text)
        if room < 0:
            text, room = set_cell_size(text, width - 1) + "…", 0
        segments += [Segment(text, style), Segment(" " * (room + _GAP))]
    segments[-1] = Segment.line()
    return segments


def _remark(out: Console, sentence: str, room: int) -> list[Segment]:
    """A remark, wrapped where it is too long and holds nothing to copy."""
    style, indent = out.get_style("yellow"), Segment(" " * INDENT)
    if "portcall " in sentence or INDENT + cell_len(sentence) <= room:
        return [indent, Segment(sentence, style), Segment.line()]
    wrapped = Text(sentence).wrap(out, room - INDENT)
    return [
        part for line in wrapped for part in (indent, Segment(line.plain, style), Segment.line())
    ]


def cell(value: object | None, style: str = "") -> Text:
    """A cell; what is not known is a dash."""
    known = value not in (None, "")
    return Text(str(value) if known else NOTHING, style if known else "dim", no_wrap=True)
