"""The text of a plan's file: how its octets are encoded, and its lines as cells."""

from __future__ import annotations

import codecs
import csv
import re
from collections.abc import Iterator, Sequence
from typing import NamedTuple

from portcall.core.finding import Line
from portcall.core.trouble import BadInput

_LARGEST_FILE = 4 * 1024 * 1024


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


class Encoding(NamedTuple):
    """How the octets of a file are text: a codec, and the byte order mark before it, if any."""

    codec: str
    mark: bytes = b""

    def decode(self, data: bytes) -> str:
        """The text. Raises UnicodeDecodeError."""
        return data[len(self.mark) :].decode(self.codec, self._errors)

    def encode(self, text: str) -> bytes:
        """The octets of a text that may have been changed. Raises UnicodeEncodeError."""
        return self.mark + text.encode(self.codec, self._errors)

    @property
    def _errors(self) -> str:
        # An octet that the code page does not have comes back as it was (PEP 383).
        return "surrogateescape" if self.codec == _CODE_PAGE else "strict"


_CODE_PAGE = "cp1252"
"""What spreadsheets still export; every file that is not Unicode is taken for it."""

_SPREADSHEETS = {
    b"PK\x03\x04": "a spreadsheet's own file (Excel or the like)",
    b"\xd0\xcf\x11\xe0": "an Excel file of the kind before 2007",
}
"""By the octets that such files start with: zip archives, and compound files."""

_MARKED = (
    Encoding("utf-8", codecs.BOM_UTF8),
    Encoding("utf-16-le", codecs.BOM_UTF16_LE),
    Encoding("utf-16-be", codecs.BOM_UTF16_BE),
)


def decode(data: bytes) -> tuple[str, Encoding]:
    """The text of a plan's file, and how it is encoded. Raises BadInput when it is no text."""
    if len(data) > _LARGEST_FILE:
        raise BadInput(f"has {len(data)} octets", f"a plan has at most {_LARGEST_FILE}")
    kind = next((kind for mark, kind in _SPREADSHEETS.items() if data.startswith(mark)), None)
    if kind is not None:
        raise BadInput(
            f"is {kind}, and not the plan's CSV; take its rows", Line("plan import", "FILE")
        )
    marked = next((each for each in _MARKED if data.startswith(each.mark)), None)
    control = next((o for o in data if o < 32 and o not in b"\t\r\n"), None)
    if control is not None and (marked is None or marked.codec == "utf-8"):
        raise BadInput(
            f"is not text (it has an octet {control:#04x})",
            "save it from the spreadsheet as CSV (UTF-8)",
        )
    try:
        encoding = marked or Encoding("utf-8")
        return encoding.decode(data), encoding
    except UnicodeDecodeError:
        if marked is not None and marked.codec != "utf-8":
            raise BadInput("is not text", "save it from the spreadsheet as CSV (UTF-8)") from None
    encoding = Encoding(_CODE_PAGE)
    return encoding.decode(data), encoding
