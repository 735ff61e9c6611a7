"""Changing cells and rows of a plan's file; all else in it stays as it is, octet for octet."""

from __future__ import annotations

import csv
from collections.abc import Mapping

from portcall.core.plan.reading import COLUMNS, decode, delimiter_of
from portcall.core.printable import printable
from portcall.core.trouble import BadInput


class _Line:
    """What a CSV writer writes to."""

    def __init__(self) -> None:
        self.text = ""

    def write(self, text: str) -> None:
        self.text += text


class PlanText:
    """The text of a plan's file; every change gives the octets that the file should have.

    They are encoded as the file is, and all that is not changed stays as it is, octet for octet.

    Whether the plan is good then, ``parse_plan`` says. Raises BadInput for what is no text.
    """

    def __init__(self, data: bytes) -> None:
        text, self._encoding = decode(data)
        self._lines = text.splitlines(keepends=True)
        self._end = "\r\n" if "\r\n" in text else "\n"
        head = next((line for line in self._lines if line.strip()), "")
        self._delimiter = delimiter_of(head) if head else ","
        self._names = [name.strip().lower() for name in self._cells(head)]

    def with_cells(self, line: int, cells: Mapping[str, str]) -> bytes:
        """The text with some cells of the row that starts at a line (the first is 1) replaced."""
        last = line
        # A cell in quotes may hold a line end; the row goes on until its quotes are even.
        while "".join(self._lines[line - 1 : last]).count('"') % 2 and last < len(self._lines):
            last += 1
        old = self._cells("".join(self._lines[line - 1 : last]))
        row = old + [""] * (len(self._names) - len(old))
        for column, value in cells.items():
            row[self._place(column)] = value
        return self._joined(
            [*self._lines[: line - 1], self._written(row), *self._lines[last:]],
        )

    def with_row(self, cells: Mapping[str, str]) -> bytes:
        """The text with a row added at its end; an empty one gets a header, too."""
        lines = list(self._lines)
        if not any(self._names):
            self._names = list(COLUMNS)
            lines = [self._written(self._names)]
        if lines and not lines[-1].endswith(("\n", "\r")):
            lines[-1] += self._end
        row = [""] * len(self._names)
        for column, value in cells.items():
            row[self._place(column)] = value
        return self._joined([*lines, self._written(row)])

    def _place(self, column: str) -> int:
        if column not in self._names:
            raise BadInput(f"the plan's header has no column {column}; add it, and try again")
        return self._names.index(column)

    def _cells(self, text: str) -> list[str]:
        rows = csv.reader(text.splitlines(keepends=True), delimiter=self._delimiter)
        return next(rows, [])

    def _written(self, row: list[str]) -> str:
        line = _Line()
        csv.writer(line, delimiter=self._delimiter, lineterminator=self._end).writerow(row)
        return line.text

    def _joined(self, lines: list[str]) -> bytes:
        try:
            return self._encoding.encode("".join(lines))
        except UnicodeEncodeError as error:
            shown = printable(error.object[error.start : error.end])
            raise BadInput(
                f"{shown}: the plan's file is saved in {self._encoding.codec}, which has no such "
                "character; save it as UTF-8 and try again"
            ) from None
