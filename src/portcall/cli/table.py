"""Showing tables on stdout, as wide as there is room for."""

from __future__ import annotations

import os
import sys
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass
from enum import StrEnum
from typing import Generic, NamedTuple, TypeVar

import click
from rich.cells import cell_len, set_cell_size
from rich.console import Console, ConsoleOptions, RenderResult
from rich.segment import Segment, Segments
from rich.table import Table
from rich.text import Text

from portcall.core.finding import Finding, Line

T = TypeVar("T")

WIDTH_VARIABLE = "PORTCALL_COLUMNS"
"""The environment variable that says how wide a file or a pipe is to be written."""

_PIPE_WIDTH = 240
"""The width when standard output is no terminal, and nobody says another.

A file or another program wants whole lines.
"""


wide_option = click.option(
    "--wide", is_flag=True, help="Show every column, however narrow the terminal is."
)


class Tone(StrEnum):
    """The meaning of a colour; words or a mark say the same."""

    BROKEN = "red"
    TO_DO = "yellow"
    INFORMATION = "bright_black"
    DONE = "green"


class Remark(NamedTuple):
    """A sentence below a row, and the line to type about it, in the colour of what is to be done.

    ``mark`` stands before it; what goes on in another line stands under the words.
    """

    sentence: str
    tone: Tone = Tone.INFORMATION
    line: Line | None = None
    mark: str = ""


def remark_of(finding: Finding, tone: Tone = Tone.INFORMATION, mark: str = "") -> Remark:
    """A finding as a remark."""
    return Remark(finding.sentence, tone, finding.line, mark)


@dataclass(frozen=True, slots=True)
class Group(Generic[T]):
    """Rows under a heading of their own; groups of one list share their columns."""

    rows: Sequence[T]
    heading: Text | None = None


def console(wide: bool = False) -> Console:
    """A console on stdout that takes text as it is: no markup, no emoji codes, no guessing."""
    width = _PIPE_WIDTH if wide else None
    if not wide and not sys.stdout.isatty():
        said = os.environ.get(WIDTH_VARIABLE, "")
        width = int(said) if said.isdecimal() and 0 < int(said) <= _PIPE_WIDTH else _PIPE_WIDTH
    return Console(width=width, markup=False, emoji=False, highlight=False)


def _sentence_width(room: int) -> int:
    """How wide sentences are written: into a file or a pipe each is one line, unless told how wide.

    What is read by a program, or searched, must not be broken somewhere.
    """
    if sys.stdout.isatty() or os.environ.get(WIDTH_VARIABLE, "").isdecimal():
        return room
    return _NEVER_BROKEN


_NEVER_BROKEN = 1_000_000


class Columns(Table):
    """A table without lines, whose rows stay one line each however narrow the terminal is.

    When it is too wide, the column ``shrinks`` becomes narrower, down to where it still says
    something; then the columns in ``drops`` go, from the last one on, unless a later one fits. What
    identifies a device is never cut.
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
        full = {
            n: max(len(header), width)
            for n, (header, width, says) in enumerate(zip(headers, widths, told, strict=True))
            if says or header not in (*drops, shrinks)
        }
        narrow = headers.index(shrinks) if shrinks else -1
        chosen = {n: width for n, width in full.items() if headers[n] not in drops}
        if narrow in chosen:
            chosen[narrow] = min(chosen[narrow], _STILL_SAYS_SOMETHING)
        for header in drops:
            n = headers.index(header)
            if n in full and _breadth({**chosen, n: full[n]}) <= room:
                chosen[n] = full[n]
        if narrow in chosen:
            spare = room - _breadth(chosen) + chosen[narrow]
            chosen[narrow] = min(full[narrow], max(len(shrinks), spare))
        return {n: chosen[n] for n in sorted(chosen)}

    def left_out(self, shown: Mapping[int, int], told: Sequence[bool]) -> list[str]:
        """The columns that say something and are not shown."""
        headers = self._made_of[0]
        return [h for n, h in enumerate(headers) if told[n] and n not in shown]

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

_STILL_SAYS_SOMETHING = 24
"""How narrow the column that gives way may become before others are left out for it."""

_AT_ONCE = 500
"""Rows that are written at a time: a list may have 65,534."""


def print_rows(
    columns: Columns,
    rows: Sequence[T],
    cells_of: Callable[[T], Sequence[Text]],
    remarks_of: Callable[[T], Sequence[Remark]] = lambda row: (),
    wide: bool = False,
) -> list[str]:
    """Print a table with the remarks on each row below it; lines to copy from them stay unbroken.

    Gives the columns that there was no room for.
    """
    return print_groups(columns, [Group(rows)], cells_of, remarks_of, wide)


def print_groups(
    columns: Columns,
    groups: Sequence[Group[T]],
    cells_of: Callable[[T], Sequence[Text]],
    remarks_of: Callable[[T], Sequence[Remark]] = lambda row: (),
    wide: bool = False,
) -> list[str]:
    """Print rows in groups under headings; gives the columns that there was no room for.

    Lines that never wrap need no layout engine: with one, a long list takes minutes.
    """
    out = console(wide)
    headers = [Text(str(column.header), "bold") for column in columns.columns]
    cells = (cells_of(row) for group in groups for row in group.rows)
    widths, told = _measure(len(headers), cells)
    # Asks the terminal: once is enough.
    terminal = console().width
    room = out.width
    sentences = _sentence_width(min(room, terminal))
    shown = columns.fit(widths, told, room)
    out.print(Segments(_line(out, headers, shown)), end="", soft_wrap=True)
    for group in groups:
        if group.heading is not None:
            out.print(group.heading, soft_wrap=True)
        for start in range(0, len(group.rows), _AT_ONCE):
            segments: list[Segment] = []
            for row in group.rows[start : start + _AT_ONCE]:
                segments += _line(out, cells_of(row), shown)
                for remark in remarks_of(row):
                    segments += _remark(out, remark, sentences)
            out.print(Segments(segments), end="", soft_wrap=True)
    return columns.left_out(shown, told)


def drawn(columns: Columns, rows: Sequence[T], cells_of: Callable[[T], Sequence[Text]]) -> Segments:
    """The same table without remarks, to be redrawn in place some times a second."""
    out = console()
    headers = [Text(str(column.header), "bold") for column in columns.columns]
    cells = [cells_of(row) for row in rows]
    widths, told = _measure(len(headers), cells)
    shown = columns.fit(widths, told, out.width)
    return Segments(segment for line in (headers, *cells) for segment in _line(out, line, shown))


def print_lines(lines: Iterable[Remark]) -> None:
    """Print sentences on stdout, wrapped at words; a line to type is never broken."""
    out = console()
    segments: list[Segment] = []
    for line in lines:
        segments += _remark(out, line, _sentence_width(out.width), indent=0)
    out.print(Segments(segments), end="", soft_wrap=True)


def left_out_sentence(columns: Sequence[str], other: str = "") -> str:
    """A sentence that names the columns a table did not show, and how to see them."""
    words = ", ".join(columns)
    return f"no room here for: {words}; --wide shows all{other}"


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
            text = shortened(text, width)
            room = width - cell_len(text)
        segments += [Segment(text, style), Segment(" " * (room + _GAP))]
    segments[-1] = Segment.line()
    return segments


def shortened(text: str, width: int) -> str:
    """A text that is longer than ``width``, cut between two words where that leaves half of it."""
    cut = set_cell_size(text, width - 1)
    if text[len(cut) : len(cut) + 1] not in ("", " "):
        at_word = cut.rstrip().rfind(" ")
        cut = cut[:at_word] if at_word * 2 >= width else cut
    return cut.rstrip(" ,;:") + "…"


def _remark(out: Console, remark: Remark, room: int, indent: int = INDENT) -> list[Segment]:
    """A remark, wrapped where it is too long, its line to type unbroken."""
    style, to_do = out.get_style(remark.tone), out.get_style(Tone.TO_DO)
    margin, hang = Segment(" " * indent), len(remark.mark)
    command = str(remark.line) if remark.line is not None else ""
    sentence = f"{remark.sentence}: " if command and remark.sentence else remark.sentence
    text = remark.mark + sentence
    if indent + cell_len(text + command) <= room or not sentence:
        return [margin, Segment(text, style), Segment(command, to_do), Segment.line()]
    broken = Text(sentence.rstrip()).wrap(out, room - indent - hang)
    lines = [" " * hang + line.plain.rstrip() for line in broken]
    lines[0] = remark.mark + lines[0][hang:]
    segments = [part for line in lines for part in (margin, Segment(line, style), Segment.line())]
    if command:
        further = Segment(" " * (indent + (hang + 2 if hang else 0)))
        segments += [further, Segment(command, to_do), Segment.line()]
    return segments


def cell(value: object | None, style: str = "") -> Text:
    """A cell; what is not known is a dash."""
    known = value not in (None, "")
    shown = str(value) if known else NOTHING
    return Text(shown, style if known else Tone.INFORMATION, no_wrap=True)
