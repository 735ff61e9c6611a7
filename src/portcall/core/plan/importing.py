"""Rows out of a table that somebody else made: its heading understood, its cells put in order.

What is certain is put right: a mask behind the address, dashes for nothing, a MAC with any signs
between. What is not is a mistake, named with the line and the heading that the file has, all of
them at once; then no row is taken.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from enum import Enum, auto

from portcall.core.csv_text import TableLine
from portcall.core.plan.changing import Cells, cells_of
from portcall.core.plan.columns import COLUMNS
from portcall.core.plan.doubts import doubts
from portcall.core.plan.expected import alike
from portcall.core.plan.reading import REQUIRED, PlanError, Problem, read_lines
from portcall.core.plan.rows import Plan, PlannedDevice, Subnet
from portcall.core.plan.synonyms import meaning_of
from portcall.core.printable import printable
from portcall.core.trouble import BadInput

_HEADING_WITHIN = 30
"""Lines at the top of a table in which its heading is looked for: titles stand above it."""

_LONGEST_CELL = 1000
_NOTHING = frozenset(("-", "--", "–", "—", "/", "n/a", "na", "none", "nil", "tbd", "tba", "?", "x"))
_MASK_BEHIND = re.compile(r"(\d+(?:\.\d+){3})\s*(/|\s|\()\s*(\d[\d.]*)\)?")
_DASHES = str.maketrans(dict.fromkeys("‐‑‒–—−", "-"))


@dataclass(frozen=True, slots=True)
class Columns:
    """How a table's heading is understood.

    ``ours`` gives the place of each column of the plan, ``headings`` what the table calls it;
    ``extra`` the places of columns that have no meaning here.
    """

    line: int
    ours: Mapping[str, int]
    headings: Mapping[str, str]
    extra: Mapping[str, int]


class Relation(Enum):
    """How a row stands to the plan that is there."""

    NEW = auto()
    SAME = auto()
    DIFFERS = auto()


@dataclass(frozen=True, slots=True)
class ImportedRow:
    """A row of the table, the cells that it gives, and how it stands to the plan that is there."""

    row: PlannedDevice
    cells: Cells
    standing: Relation
    differences: Mapping[str, tuple[str, str]]
    """By column, what the plan has and what the table gives."""


@dataclass(frozen=True, slots=True)
class Understood:
    """A table as it is understood; ``passed_over`` are lines with one cell, which are no rows."""

    columns: Columns
    rows: tuple[ImportedRow, ...]
    passed_over: tuple[tuple[int, str], ...]


@dataclass(frozen=True, slots=True)
class Said:
    """What a person answered about a list, or its file tells of it beside its cells.

    ``leave`` are lines that are no rows, ``keep`` headings that mean nothing here, ``struck`` lines
    that are struck through, and ``hidden`` the places of columns that nobody sees.
    """

    leave: frozenset[int] = frozenset()
    keep: tuple[str, ...] = ()
    struck: frozenset[int] = frozenset()
    struck_are_meant: bool = False
    hidden: frozenset[int] = frozenset()


def has_heading(lines: Sequence[TableLine], chosen: Mapping[str, str] | None = None) -> bool:
    """Whether a table has a heading that names an address."""
    return _heading(lines, chosen or {}) is not None


def understand(
    lines: Sequence[TableLine],
    source: str,
    plan: Plan,
    subnets: Sequence[Subnet] = (),
    chosen: Mapping[str, str] | None = None,
    said: Said | None = None,
) -> Understood:
    """Read a table, whose lines are numbered as in its file, beside the plan that is there.

    ``chosen`` says for columns of the plan which heading means them, and ``said`` what else a
    person has answered. Raises BadInput for a heading that is not understood, and PlanError with
    every mistake of the rows, and every doubt.
    """
    chosen, said = chosen or {}, said or Said()
    lines = [line for line in lines if line.number not in said.leave]
    at = _heading(lines, chosen)
    if at is None:
        raise BadInput(f"{source}: {_no_heading(lines, chosen)}")
    columns = _columns(lines[at], chosen, source, said)
    kept = [line for line in lines[at + 1 :] if not line.is_empty]
    passed_over = [line for line in kept if _is_title(line, columns)]
    rows = [line for line in kept if not _is_title(line, columns)]
    cells = [_cells(line, columns) for line in rows]
    # A mask behind an address gets a column, if the table has none for it.
    behind = [column for column in ("mask",) if any(column in cell for cell in cells)]
    names = list(dict.fromkeys([*columns.ours, *behind, *columns.extra]))
    table = [TableLine(columns.line, names)]
    table += [
        TableLine(line.number, [cell.get(name, "") for name in names])
        for line, cell in zip(rows, cells, strict=True)
    ]
    headings = {k: v for k, v in columns.headings.items() if k not in chosen}
    struck = () if said.struck_are_meant else said.struck
    problems = list(doubts(rows, cells, columns.ours, headings, struck))
    doubted = {each.line for each in problems}
    try:
        devices = read_lines(table, source, subnets).rows
    except PlanError as error:
        devices = ()
        # Of a line in doubt it is asked first what it is.
        problems += [each for each in error.problems if each.line not in doubted]
    planned = {row.name.casefold(): row for row in plan.rows}
    problems += _against(plan, devices)
    if problems:
        in_order = sorted(problems, key=lambda each: each.line)
        raise PlanError(source, [_in_their_words(each, columns) for each in in_order])
    return Understood(
        columns,
        tuple(
            _standing(row, cell, planned.get(row.name.casefold()))
            for row, cell in zip(devices, cells, strict=True)
        ),
        tuple((line.number, _only_cell(line)) for line in passed_over),
    )


def _heading(lines: Sequence[TableLine], chosen: Mapping[str, str]) -> int | None:
    """Which of the first lines is the heading: the one with the most words that are understood."""

    def understood(line: TableLine) -> int:
        meanings = {_meaning(cell, chosen) for cell in line.cells} - {None}
        return len(meanings) if "address" in meanings and len(meanings) > 1 else 0

    first = range(min(len(lines), _HEADING_WITHIN))
    best = max(first, key=lambda n: (understood(lines[n]), -n), default=None)
    return best if best is not None and understood(lines[best]) else None


def _meaning(heading: str, chosen: Mapping[str, str]) -> str | None:
    """The meaning of a heading: as typed, as one of our own, or as others use the word."""
    for column, words in chosen.items():
        if alike(words, heading):
            return column
    plain = heading.strip().lower()
    meaning = plain if plain in COLUMNS else meaning_of(heading)
    return None if meaning in chosen else meaning


def _no_heading(lines: Sequence[TableLine], chosen: Mapping[str, str]) -> str:
    there = next((line for line in lines if len([c for c in line.cells if c.strip()]) > 1), None)
    if there is None:
        return "has no line with more than one cell; is this the right file or sheet?"
    words = ", ".join(printable(cell, 40) for cell in there.cells if cell.strip())
    for column, heading in chosen.items():
        cells = (cell for line in lines[:_HEADING_WITHIN] for cell in line.cells)
        if not any(alike(heading, cell) for cell in cells):
            said = f"--column {column}={printable(heading, 60)}: no heading is called so"
            return f"{said}; line {there.number} has {words}"
    return (
        f"no line is understood as its heading; line {there.number} has {words}; say which mean "
        'what: --column address="…" --column name="…"'
    )


def _columns(heading: TableLine, chosen: Mapping[str, str], source: str, said: Said) -> Columns:
    """The meaning of each heading. Raises BadInput where two mean the same, or one is missing."""
    ours: dict[str, int] = {}
    headings: dict[str, str] = {}
    extra: dict[str, int] = {}
    for place, cell in enumerate(heading.cells):
        words = printable(cell, 60)
        is_kept = any(alike(words, cell) for words in said.keep)
        meaning = None if is_kept else _meaning(cell, chosen)
        if meaning in REQUIRED and place in said.hidden and meaning not in chosen:
            raise BadInput(
                f"{source} line {heading.number}: {words} means {meaning}, and nobody sees it: its "
                "column is hidden",
                f'if it is meant: --column {meaning}="{words}", if not: --keep "{words}"',
            )
        if meaning is not None and meaning not in ours:
            ours[meaning], headings[meaning] = place, words
        elif meaning in REQUIRED or meaning == "mac":
            raise BadInput(
                f"{source} line {heading.number}: {headings[meaning]} and {words} both mean "
                f"{meaning}",
                f'say which: --column {meaning}="{headings[meaning]}"',
            )
        elif words:
            extra[_once(words.lower(), (*extra, *COLUMNS))] = place
    for column, words in chosen.items():
        if not any(alike(words, cell) for cell in heading.cells):
            there = ", ".join((*headings.values(), *extra))
            raise BadInput(
                f"--column {column}={printable(words, 60)}: {source} line {heading.number} has "
                "no such heading",
                f"it has {there}",
            )
    missing = [column for column in REQUIRED if column not in ours]
    if missing:
        words = ", ".join((*headings.values(), *extra))
        raise BadInput(
            f"{source} line {heading.number}: no heading means {missing[0]}; it has {words}",
            f'say which: --column {missing[0]}="…"',
        )
    return Columns(heading.number, ours, headings, extra)


def _once(name: str, taken: Iterable[str]) -> str:
    """A column's own name: a second one that is called the same gets a number."""
    known, number, made = set(taken), 2, name
    while made in known:
        made, number = f"{name} {number}", number + 1
    return made


def _is_title(line: TableLine, columns: Columns) -> bool:
    """Whether a line only says what those below it are: one cell, and no address."""
    filled = [n for n, cell in enumerate(line.cells) if cell.strip()]
    return len(filled) == 1 and filled[0] != columns.ours["address"]


def _only_cell(line: TableLine) -> str:
    return printable(next(cell for cell in line.cells if cell.strip()), 60)


def _cells(line: TableLine, columns: Columns) -> dict[str, str]:
    """The cells of a row by our columns, with what is certain put right."""
    places = {**columns.ours, **columns.extra}
    cells = {
        column: printable(line.cells[place], _LONGEST_CELL)
        for column, place in places.items()
        if place < len(line.cells)
    }
    for column in ("mac", "mask", "gateway", "circuit", "address"):
        if column in cells:
            cells[column] = _tidied(column, cells[column])
    behind = _MASK_BEHIND.fullmatch(cells.get("address", ""))
    if behind is not None and _may_be_a_mask(behind[2], behind[3]) and not cells.get("mask"):
        cells["address"], cells["mask"] = behind[1], behind[3]
    return {column: cell for column, cell in cells.items() if cell}


def _tidied(column: str, text: str) -> str:
    if text.casefold() in _NOTHING:
        return ""
    return text.translate(_DASHES) if column == "mac" else text


def _may_be_a_mask(sign: str, text: str) -> bool:
    """Whether what stands behind an address is a mask: dotted, or a prefix length with its slash.

    A number in brackets or behind a blank may be a port, a count or a page.
    """
    is_dotted = text.count(".") == 3
    return is_dotted or (sign == "/" and "." not in text and len(text) <= 2)


def _against(plan: Plan, devices: Sequence[PlannedDevice]) -> Iterator[Problem]:
    """Rows whose address or MAC the plan that is there gives to another name."""
    holders: dict[tuple[str, object], PlannedDevice] = {}
    for planned in plan:
        holders["address", planned.address] = planned
        holders["mac", planned.mac] = planned
    arriving = {row.name.casefold() for row in devices}
    for row in devices:
        for column, value in () if row.of else (("address", row.address), ("mac", row.mac)):
            holder = holders.get((column, value)) if value is not None else None
            if holder is not None and holder.name.casefold() not in arriving:
                yield Problem(row.line, column, f"{value}: the plan gives it to {holder.name}")


def _in_their_words(problem: Problem, columns: Columns) -> Problem:
    column = columns.headings.get(problem.column or "", problem.column)
    return Problem(problem.line, column, problem.text)


def _standing(row: PlannedDevice, cells: Cells, planned: PlannedDevice | None) -> ImportedRow:
    if planned is None:
        return ImportedRow(row, cells, Relation.NEW, {})
    has, gives = cells_of(planned), cells_of(row)
    differences = {
        column: (has.get(column, ""), gives.get(column, ""))
        for column in cells
        if column != "name" and has.get(column, "") != gives.get(column, "")
    }
    standing = Relation.DIFFERS if differences else Relation.SAME
    return ImportedRow(row, cells, standing, differences)
