"""Showing tables on stdout, as wide as there is room for."""

from __future__ import annotations

import sys
from collections.abc import Sequence

from rich.console import Console, ConsoleOptions, RenderResult
from rich.padding import Padding
from rich.segment import Segment, Segments
from rich.table import Table
from rich.text import Text

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
        for header in headers:
            # Rich narrows the columns that may wrap; the cells themselves never do.
            self.add_column(header.upper(), no_wrap=header != shrinks, overflow="ellipsis")

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


def print_with_notes(shown: Columns, notes: Sequence[Sequence[str]]) -> None:
    """Print a table with each row's notes below it; lines to copy from them stay unbroken."""
    out = console()
    header, *rows = out.render_lines(shown, out.options.update(width=out.width), pad=False)
    for line, below in zip([header, *rows], [(), *notes], strict=True):
        out.print(Segments([*line, Segment.line()]), end="")
        for sentence in below:
            has_command = "portcall " in sentence
            text = Text(sentence, style="yellow")
            out.print(Padding(text, (0, 0, 0, 4), expand=False), soft_wrap=has_command)


def cell(value: object | None, style: str = "") -> Text:
    """A cell; what is not known is a dash."""
    known = value not in (None, "")
    return Text(str(value) if known else "–", style if known else "dim", no_wrap=True)
