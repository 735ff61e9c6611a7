"""Changing cells and rows of a plan's file; all else in it stays as it is, octet for octet."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence

from portcall.core.csv_text import csv_line, delimiter_in, lines_in, lines_of
from portcall.core.plan.columns import COLUMNS, STARTING
from portcall.core.plan.text import decode
from portcall.core.printable import printable
from portcall.core.trouble import BadInput


class PlanText:
    """The text of a plan's file; every change gives the octets that the file should have.

    They are encoded as the file is, and all that is not changed stays as it is, octet for octet. A
    column that the file does not have yet is added to its heading when a cell needs it.

    Whether the plan is good then, ``parse_plan`` says. Raises BadInput for what is no text.
    """

    def __init__(self, data: bytes) -> None:
        text, self._encoding = decode(data)
        self._lines = lines_in(text)
        self._end = "\r\n" if "\r\n" in text else "\n"
        self._head, self._delimiter = delimiter_in(self._lines)
        head = next(lines_of(self._lines, self._head, self._delimiter), None)
        if head is not None:
            self._head = head.number - 1
        self.columns = [name.strip().lower() for name in head.cells] if head else []

    def with_cells(self, line: int, cells: Mapping[str, str]) -> bytes:
        """The text with some cells of the row that starts at a line (the first is 1) replaced."""
        return self.changed({line: cells})

    def with_rows(self, rows: Sequence[Mapping[str, str]]) -> bytes:
        """The text with rows added at its end; an empty one gets a heading, too."""
        return self.changed({}, rows)

    def changed(
        self, cells: Mapping[int, Mapping[str, str]], rows: Sequence[Mapping[str, str]] = ()
    ) -> bytes:
        """The text with cells replaced, by the lines where their rows start, and rows added."""
        head = self._heading_for([column for each in (*cells.values(), *rows) for column in each])
        lines = self._with_heading(head)
        # From the last row up: the lines above keep their numbers.
        for line in sorted(cells, reverse=True):
            row = list(next(lines_of(self._lines, line - 1, self._delimiter)).cells)
            row += [""] * (len(head) - len(row))
            for column, value in cells[line].items():
                row[head.index(column)] = value
            lines[line - 1 : self._end_of(line)] = [self._written(row)]
        if rows and lines and not lines[-1].endswith(("\n", "\r")):
            lines[-1] += self._end
        lines += (self._written([each.get(name, "") for name in head]) for each in rows)
        return self._joined(lines)

    def without_row(self, line: int) -> bytes:
        """The text without the row that starts at a line (the first is 1)."""
        return self._joined([*self._lines[: line - 1], *self._lines[self._end_of(line) :]])

    def _end_of(self, line: int) -> int:
        """The last line of the row that starts at a line.

        A cell in quotes may hold a line end; the row goes on until its quotes are even.
        """
        last = line
        while "".join(self._lines[line - 1 : last]).count('"') % 2 and last < len(self._lines):
            last += 1
        return last

    def _heading_for(self, columns: Iterable[str]) -> list[str]:
        """The heading's names, with those that it needs besides."""
        needed = dict.fromkeys(columns)
        head = self.columns or list(STARTING)
        if not self.columns:
            head = [column for column in COLUMNS if column in needed or column in STARTING]
        added = [column for column in (*COLUMNS, *needed) if column in needed]
        return list(dict.fromkeys((*head, *added)))

    def _with_heading(self, head: Sequence[str]) -> list[str]:
        if not self.columns:
            return [self._written(head)]
        lines = list(self._lines)
        added = head[len(self.columns) :]
        if added:
            at = self._end_of(self._head + 1) - 1
            plain = lines[at].rstrip("\r\n")
            end = lines[at][len(plain) :]
            lines[at] = self._delimiter.join((plain, csv_line(added, self._delimiter, end)))
        return lines

    def _written(self, row: Sequence[str]) -> str:
        return csv_line(row, self._delimiter, self._end)

    def _joined(self, lines: list[str]) -> bytes:
        try:
            return self._encoding.encode("".join(lines))
        except UnicodeEncodeError as error:
            shown = printable(error.object[error.start : error.end])
            raise BadInput(
                f"{shown}: the plan's file is saved in {self._encoding.codec}, which has no "
                "such character",
                "save it as UTF-8 and try again",
            ) from None
