"""Tables in files: CSV as anybody exports it, and spreadsheets (Office Open XML, ISO/IEC 29500).

Needs openpyxl for spreadsheets, which is loaded when one is read or written.
"""

from __future__ import annotations

import re
import zipfile
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import date, datetime, time
from io import BytesIO
from pathlib import Path
from typing import TYPE_CHECKING, Any

from portcall.core.csv_text import (
    TableLine,
    csv_line,
    declared_delimiter,
    delimiter_of_all,
    lines_in,
    lines_of,
)
from portcall.core.plan.text import text_of_a_list
from portcall.core.printable import for_spreadsheets, printable
from portcall.core.trouble import BadInput
from portcall.site.files import read_bounded, write_whole

if TYPE_CHECKING:
    from openpyxl.worksheet.worksheet import Worksheet

_LARGEST = 32 * 1024 * 1024
_LARGEST_UNPACKED = 256 * 1024 * 1024
_MOST_ROWS, _MOST_COLUMNS = 65_536, 256
_MOST_FILLED = 1_000_000
"""Cells that merged ones stand for: spans may lie over each other in a file that means harm."""

_SAMPLE = 20
"""Lines at the top of a CSV file by which it is told what separates its cells."""


@dataclass(frozen=True, slots=True)
class Table:
    """One table of a file: its sheet's name, "" for CSV, and its lines as numbered there."""

    sheet: str
    lines: Sequence[TableLine]
    hidden_rows: int = 0
    hidden_columns: frozenset[int] = frozenset()
    """Their places in a line, from 0."""
    struck: frozenset[int] = frozenset()
    """The numbers of the lines that are struck through."""


def read_tables(path: Path, encoding: str | None = None) -> tuple[Table, ...]:
    """The tables of a file: each visible sheet, or what a CSV file has, in an ``encoding``.

    Raises BadInput for what is neither, NotPossibleHere for what cannot be read.
    """
    data = read_bounded(path, _LARGEST, "list of devices")
    if data.startswith(b"PK\x03\x04"):
        return tuple(_sheets(path.name, data))
    if data.startswith(b"\xd0\xcf\x11\xe0"):
        raise BadInput(
            f"{path.name}: is an Excel file of the kind before 2007, or one with a password",
            "save it as .xlsx",
        )
    return (Table("", _csv_lines(path.name, data, encoding)),)


def _csv_lines(name: str, data: bytes, encoding: str | None) -> Sequence[TableLine]:
    try:
        text = text_of_a_list(data, encoding)
    except BadInput as trouble:
        raise BadInput(f"{name}: {trouble.what}", trouble.do) from None
    lines = lines_in(text)
    declared = declared_delimiter(lines[0]) if lines else None
    start = 0 if declared is None else 1
    try:
        return list(lines_of(lines, start, declared or delimiter_of_all(lines[:_SAMPLE])))
    except BadInput as trouble:
        raise BadInput(f"{name}: {trouble}") from None


def _sheets(name: str, data: bytes) -> Iterator[Table]:
    try:
        with zipfile.ZipFile(BytesIO(data)) as packed:
            names = set(packed.namelist())
            unpacked = sum(each.file_size for each in packed.infolist())
    except zipfile.BadZipFile:
        raise BadInput(f"{name}: is damaged", "save it again from the spreadsheet") from None
    if "content.xml" in names:
        raise BadInput(f"{name}: is an OpenDocument file", "save it as .xlsx or as CSV (UTF-8)")
    if "xl/workbook.xml" not in names:
        raise BadInput(f"{name}: is no spreadsheet", "save it as .xlsx or as CSV (UTF-8)")
    if unpacked > _LARGEST_UNPACKED:
        raise BadInput(f"{name}: unpacks to {unpacked} octets", "no plan has so many")
    import openpyxl

    try:
        results = openpyxl.load_workbook(BytesIO(data), data_only=True)
        formulas = openpyxl.load_workbook(BytesIO(data))
    except Exception as error:  # A damaged file can raise nearly any error in its reader.
        kind = type(error).__name__
        raise BadInput(
            f"{name}: cannot be read as a spreadsheet ({kind})", "save it again"
        ) from None
    for sheet in results.worksheets:
        if sheet.sheet_state == "visible":
            yield _table(name, sheet, formulas[sheet.title])


def _table(name: str, sheet: Worksheet, formulas: Worksheet) -> Table:
    cells = _told(sheet, formulas)
    # People format whole columns, down to the millionth row: only cells that say something count.
    last = (
        max((row for row, _ in cells), default=0),
        max((column for _, column in cells), default=0),
    )
    if last[0] > _MOST_ROWS or last[1] > _MOST_COLUMNS:
        raise BadInput(
            f"{name}, sheet {printable(sheet.title, 40)}: has {last[0]} rows and {last[1]} columns",
            f"at most {_MOST_ROWS} and {_MOST_COLUMNS} are read",
        )
    _fill_merged(sheet, cells, last[0])
    rows: dict[int, dict[int, str]] = {}
    for (row, column), text in cells.items():
        rows.setdefault(row, {})[column] = text
    lines = [
        TableLine(number, [row.get(place, "") for place in range(1, max(row) + 1)])
        for number, row in sorted(rows.items())
    ]
    lines = [line for line in lines if not line.is_empty]
    hidden = {n for n, each in sheet.row_dimensions.items() if each.hidden}
    return Table(
        printable(sheet.title, 60),
        lines,
        sum(line.number in hidden for line in lines),
        frozenset(_hidden_columns(sheet)),
        frozenset(_struck_rows(sheet)),
    )


def _hidden_columns(sheet: Worksheet) -> Iterator[int]:
    for dimension in sheet.column_dimensions.values():
        if dimension.hidden:
            # One that is written may stand for several beside each other.
            first, last = dimension.min or 1, min(dimension.max or 1, _MOST_COLUMNS)
            yield from range(first - 1, last)


def _struck_rows(sheet: Worksheet) -> Iterator[int]:
    """The rows of which everything that they say is struck through."""
    rows: dict[int, bool] = {}
    for (row, _), cell in sheet._cells.items():
        if cell.value is not None:
            rows[row] = rows.get(row, True) and bool(cell.font and cell.font.strike)
    yield from (row for row, is_struck in rows.items() if is_struck)


def _told(sheet: Worksheet, formulas: Worksheet) -> dict[tuple[int, int], str]:
    """The cells that say something, by row and column: a sheet has few of those it could have.

    openpyxl makes each cell that is asked for, so that its own store is read.
    """
    told = {
        place: _as_text(cell.value, cell.number_format)
        for place, cell in sheet._cells.items()
        if cell.value is not None
    }
    unknown = "#FORMULA WITHOUT A RESULT!"
    return told | {
        place: unknown
        for place, cell in formulas._cells.items()
        if cell.data_type == "f" and place not in told
    }


def _fill_merged(sheet: Worksheet, cells: dict[tuple[int, int], str], last: int) -> None:
    """A cell that is merged with those below it stands for all of them, down to the last row."""
    room = _MOST_FILLED
    for span in sheet.merged_cells.ranges:
        text = cells.get((span.min_row, span.min_col))
        if span.min_col == span.max_col and text is not None:
            for row in range(span.min_row + 1, min(span.max_row, last, span.min_row + room) + 1):
                cells[row, span.min_col] = text
                room -= 1


def _as_text(value: object, shown_as: str) -> str:
    """A cell as the person sees it, or nearly: a number with the decimals that it is shown with."""
    if value is None:
        return ""
    decimals = _DECIMALS.fullmatch(shown_as)
    if isinstance(value, int) and not isinstance(value, bool) and _ZEROS.fullmatch(shown_as):
        return str(value).zfill(len(shown_as))
    if isinstance(value, float) and abs(value) >= _EXACT:
        return f"{value:.5E}"
    if isinstance(value, (int, float)) and decimals is not None:
        return f"{value:.{len(decimals[1])}f}"
    if isinstance(value, float) and value.is_integer():
        return str(int(value))
    if isinstance(value, (datetime, date, time)):
        return value.isoformat() if isinstance(value, time) else value.isoformat()[:10]
    return str(value).strip()


_ZEROS = re.compile(r"0{2,20}")
"""A number format that shows zeros in front."""

_EXACT = 1e15
"""Above that a spreadsheet keeps fifteen digits, and the others are gone."""

_DECIMALS = re.compile(r"[#,]*0\.(0{1,9})")
"""A number format that shows so many decimals: a firmware of 5.010 is not 5.01."""


@dataclass(frozen=True, slots=True)
class Sheet:
    """A sheet to write: a title with a line below it, the heading, and rows of texts."""

    title: str
    below: str
    heading: Sequence[str]
    rows: Sequence[Sequence[str]]


def write_spreadsheet(path: Path, sheet: Sheet) -> None:
    """Write a spreadsheet for somebody who has nothing but a spreadsheet. Raises OSError."""
    from openpyxl import Workbook

    book = Workbook()
    book.active.title = "Plan"
    put_sheet(book.active, sheet)
    saved = BytesIO()
    book.save(saved)
    write_whole(path, saved.getvalue())


def put_sheet(page: Worksheet, sheet: Sheet) -> None:
    """Fill an empty sheet.

    Every cell is text: no address becomes a date, no serial number a rounded one, and nothing that
    a device said is run as a formula. The heading stays in sight, and is on every printed page.
    """
    from openpyxl.styles import Alignment, Border, Font, PatternFill, Side
    from openpyxl.utils import get_column_letter

    _put(page, 1, 1, sheet.title).font = Font(bold=True, size=14)
    _put(page, 2, 1, sheet.below).font = Font(color="606060")
    line = Side(style="thin", color="A0A0A0")
    for place, text in enumerate(sheet.heading, 1):
        cell = _put(page, _HEADING_ROW, place, text)
        cell.font = Font(bold=True)
        cell.fill = PatternFill("solid", fgColor="E4E8EC")
        cell.border = Border(bottom=line)
    widths = []
    for place, heading in enumerate(sheet.heading):
        longest = max((len(row[place]) for row in sheet.rows), default=0)
        widths.append(min(max(longest, len(heading)) + 2, _WIDEST))
        page.column_dimensions[get_column_letter(place + 1)].width = widths[-1]
    for number, row in enumerate(sheet.rows, _HEADING_ROW + 1):
        for place, text in enumerate(row, 1):
            _put(page, number, place, text).alignment = Alignment(vertical="top", wrap_text=True)
        lines = max((-(-len(text) // (widths[n] - 2)) for n, text in enumerate(row)), default=1)
        if 1 < lines <= _MOST_LINES:
            # Not every program makes room for text that goes on in the next line.
            page.row_dimensions[number].height = _LINE * lines
    last = get_column_letter(max(len(sheet.heading), 1))
    page.freeze_panes = f"B{_HEADING_ROW + 1}"
    page.auto_filter.ref = f"A{_HEADING_ROW}:{last}{_HEADING_ROW + len(sheet.rows)}"
    page.print_title_rows = f"{_HEADING_ROW}:{_HEADING_ROW}"
    page.page_setup.orientation = "landscape"
    page.page_setup.paperSize = page.PAPERSIZE_A4
    page.page_setup.fitToHeight = 0
    # A sheet that is wider than people can read on one page goes on beside it.
    page.page_setup.fitToWidth = max(-(-int(sum(widths)) // _READABLE), 1)
    page.print_title_cols = "A:A"
    page.sheet_properties.pageSetUpPr.fitToPage = True
    page.oddFooter.right.text = "&P / &N"


_READABLE = 170
"""Characters that can be read beside each other on a page that lies."""

_HEADING_ROW = 4
_WIDEST = 42
_LINE, _MOST_LINES = 15.0, 12
"""The height of a line, in points, and how many of a cell are shown."""


def _put(page: Worksheet, row: int, column: int, text: str) -> Any:
    """Write a cell as text, whatever it looks like."""
    cell = page.cell(row, column)
    cell.value = text or None
    if text:
        cell.data_type = "s"
    cell.number_format = "@"
    return cell


def csv_text(rows: Sequence[Sequence[str]], delimiter: str, mark: bool) -> bytes:
    """Rows as CSV in UTF-8, with a byte order mark where asked: some spreadsheets need it."""
    text = "".join(csv_line([for_spreadsheets(cell) for cell in row], delimiter) for row in rows)
    return text.encode("utf-8-sig" if mark else "utf-8")
