"""Showing tables on stdout, as wide as there is room for."""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterable, Sequence
from typing import TypeVar

from rich.console import Console, ConsoleOptions, RenderResult
from rich.padding import Padding
from rich.segment import Segment, Segments
from rich.table import Table
from rich.text import Text

T = TypeVar("T")

_PIPE_WIDTH = 240
"""Columns when nobody's terminal sets them: a file or another program wants whole lines."""


def console() -> Console:
    """A console on stdout that takes text as it is: no markup, no emoji codes, no guessing."""
    width = None if sys.stdout.isatty() else _PIPE_WIDTH
    return Console(width=width, markup=False, emoji=False, highlight=False)


class Columns(Table):
    """A table without lines, whose rows stay one line each however narrow the terminal is.

    What is too wide first loses the columns in ``drops``, the last one first; then the column
    ``shrinks`` gives way. What identifies a device is never cut.
    """

    def __init__(self, *headers: str, drops: Sequence[str] = (), shrinks: str = "") -> None:
        super().__init__(box=None, pad_edge=False, padding=(0, 2, 0, 0), header_style="bold")
        self._drops = [header.upper() for header in drops]
        self._made_of = (headers, tuple(drops), shrinks)
        for header in headers:
            # Rich narrows the columns that may wrap; the cells themselves never do.
            self.add_column(header.upper(), no_wrap=header != shrinks, overflow="ellipsis")

    def with_only(self, told: Sequence[bool]) -> tuple[Columns, list[int]]:
        """A table without the columns that could be dropped and say nothing; and which are left."""
        headers, drops, shrinks = self._made_of
        left = [
            n
            for n, header in enumerate(headers)
            if header not in drops or n >= len(told) or told[n]
        ]
        return Columns(*(headers[n] for n in left), drops=drops, shrinks=shrinks), left

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

NOTE_INDENT = 4

_PAGE = 500
"""Rows laid out at a time: laid out at once, a list of 65,534 would take a gigabyte."""


def print_rows(
    layout: Callable[[], Columns],
    rows: Sequence[T],
    cells_of: Callable[[T], Sequence[Text]],
    notes_of: Callable[[T], Sequence[str]] = lambda row: (),
) -> None:
    """Print a table with each row's notes below it; lines to copy from them stay unbroken."""
    out = console()
    widths, told = _measure(cells_of(row) for row in rows)
    for start in range(0, max(len(rows), 1), _PAGE):
        page = rows[start : start + _PAGE]
        shown, left = layout().with_only(told)
        shown.show_header = start == 0
        for column, n in zip(shown.columns, left, strict=True):
            if len(rows) > _PAGE:
                column.min_width = max(widths[n], len(str(column.header)))
        for row in page:
            cells = cells_of(row)
            shown.add_row(*(cells[n] for n in left))
        _print_page(out, shown, [notes_of(row) for row in page])


def _measure(rows: Iterable[Sequence[Text]]) -> tuple[list[int], list[bool]]:
    """The width of each column, and whether any of its cells says something."""
    widths: list[int] = []
    told: list[bool] = []
    for cells in rows:
        widths = widths or [0] * len(cells)
        told = told or [False] * len(cells)
        for n, each in enumerate(cells):
            widths[n] = max(widths[n], each.cell_len)
            told[n] = told[n] or each.plain != NOTHING
    return widths, told


def _print_page(out: Console, shown: Columns, notes: Sequence[Sequence[str]]) -> None:
    lines = out.render_lines(shown, out.options.update(width=out.width), pad=False)
    below = [(), *notes] if shown.show_header else list(notes)
    for line, sentences in zip(lines, below, strict=True):
        out.print(Segments([*line, Segment.line()]), end="")
        for sentence in sentences:
            has_command = "portcall " in sentence
            text = Text(sentence, style="yellow")
            out.print(Padding(text, (0, 0, 0, NOTE_INDENT), expand=False), soft_wrap=has_command)


def cell(value: object | None, style: str = "") -> Text:
    """A cell; what is not known is a dash."""
    known = value not in (None, "")
    return Text(str(value) if known else NOTHING, style if known else "dim", no_wrap=True)
