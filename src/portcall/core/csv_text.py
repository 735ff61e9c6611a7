"""Lines of CSV (RFC 4180) as cells, and cells as a line: plans, device lists, logs of echoes."""

from __future__ import annotations

import csv
import re
from collections.abc import Iterator, Sequence
from typing import NamedTuple

from portcall.core.trouble import BadInput


class TableLine(NamedTuple):
    """A line of a table: the number that it has in its file, from 1, and its cells as text."""

    number: int
    cells: list[str]

    @property
    def is_empty(self) -> bool:
        """Whether no cell says anything."""
        return not any(cell.strip() for cell in self.cells)


class BrokenLine(BadInput):
    """A line that is no CSV; ``number`` is the one at which that shows."""

    def __init__(self, number: int, what: str) -> None:
        super().__init__(what)
        self.number = number


_ENDS = re.compile(r"(?<=\n)|(?<=\r)(?!\n)")


def lines_in(text: str) -> list[str]:
    """The lines of a text, with their ends; no other separator than CR and LF ends one."""
    return [line for line in _ENDS.split(text) if line]


_DELIMITERS = ",;\t|"
_DECLARATION = "sep="


def delimiter_of(sample: str) -> str:
    """The separator of the cells: the commonest of comma, semicolon, tab and bar."""
    return max(_DELIMITERS, key=sample.count)


def delimiter_of_all(lines: Sequence[str]) -> str:
    """The separator by which most of some lines have as many cells as each other, and the most.

    The commonest character need not be it: remarks have commas.
    """

    def told(delimiter: str) -> tuple[int, int]:
        counts = [len(cells) for cells in csv.reader(lines, delimiter=delimiter) if any(cells)]
        several = [count for count in counts if count > 1]
        usual = max(several, key=several.count, default=0)
        return several.count(usual), usual

    try:
        return max(_DELIMITERS, key=told)
    except csv.Error:
        return delimiter_of("".join(lines))


def declared_delimiter(line: str) -> str | None:
    """The separator that a first line such as ``sep=;`` gives."""
    plain = line.strip("\r\n ")
    if len(plain) == len(_DECLARATION) + 1 and plain.lower().startswith(_DECLARATION):
        return plain[-1]
    return "\t" if line.lower().startswith(_DECLARATION + "\t") else None


def delimiter_in(lines: Sequence[str]) -> tuple[int, str]:
    """At which of a text's lines its heading is sought, counted from 0, and what separates cells.

    Empty lines are passed over, and one that declares the delimiter.
    """
    first = next((n for n, line in enumerate(lines) if line.strip()), len(lines))
    if first == len(lines):
        return first, ","
    declared = declared_delimiter(lines[first])
    return (first, delimiter_of(lines[first])) if declared is None else (first + 1, declared)


def lines_of(lines: Sequence[str], start: int, delimiter: str) -> Iterator[TableLine]:
    """The cells of a text's lines, from one on; empty lines are left out. Raises BrokenLine."""
    rows = csv.reader(lines[start:], delimiter=delimiter)
    number = start + 1
    try:
        for cells in rows:
            line = TableLine(number, cells)
            if not line.is_empty:
                yield line
            number = start + rows.line_num + 1
    except csv.Error as error:
        raise BrokenLine(number, f"is not CSV: {error}") from None


class _Written:
    """The target of a CSV writer."""

    def __init__(self) -> None:
        self.text = ""

    def write(self, text: str) -> None:
        self.text += text


def csv_line(cells: Sequence[object], delimiter: str = ",", end: str = "\n") -> str:
    """One line of CSV."""
    line = _Written()
    csv.writer(line, delimiter=delimiter, lineterminator=end).writerow(cells)
    return line.text
