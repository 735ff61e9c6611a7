"""Adding, changing and removing rows of a plan by name, and saying what that changed."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from difflib import get_close_matches
from typing import TypeAlias

from portcall.core.plan.columns import COLUMNS
from portcall.core.plan.editing import PlanText
from portcall.core.plan.rows import Plan, PlannedDevice
from portcall.core.plan.targets import unknown
from portcall.core.printable import printable
from portcall.core.trouble import BadInput

Cells: TypeAlias = Mapping[str, str]
"""Cells by the names of their columns."""

Edit: TypeAlias = Callable[[Plan, bytes], bytes]
"""What makes the octets that a plan's file should have of the plan, and of those it has."""


def adding(rows: Sequence[Cells]) -> Edit:
    """Add rows at the end."""
    return lambda plan, data: PlanText(data).with_rows([_parted(cells) for cells in rows])


def setting(name: str, cells: Cells) -> Edit:
    """Change cells of a row. Raises BadInput when there is no such row, or no such column."""

    def edit(plan: Plan, data: bytes) -> bytes:
        text = PlanText(data)
        for column in cells:
            _check_column(column, text.columns)
        row = _row(name, plan)
        changed = {row.line: _parted(cells)}
        if cells.get("name") and not row.of:
            # Its parts go on to be its parts.
            changed |= {each.line: {"of": cells["name"]} for each in plan.parts_of(row.name)}
        return text.changed(changed)

    return edit


def merging(changed: Mapping[str, Cells], added: Sequence[Cells]) -> Edit:
    """Change cells of rows, by their names, and add rows; with new columns, where they have some.

    Raises BadInput when there is no such row.
    """

    def edit(plan: Plan, data: bytes) -> bytes:
        cells = {_row(name, plan).line: _parted(each) for name, each in changed.items()}
        return PlanText(data).changed(cells, [_parted(each) for each in added])

    return edit


def removing(names: Sequence[str]) -> Edit:
    """Remove rows. Raises BadInput when there is no such row."""

    def edit(plan: Plan, data: bytes) -> bytes:
        lines = {_row(name, plan).line for name in names}
        if len(lines) == len(plan.rows):
            raise BadInput("a plan has one row at least", "for none, delete its file")
        # From the last one up: the lines above keep their numbers.
        for line in sorted(lines, reverse=True):
            data = PlanText(data).without_row(line)
        return data

    return edit


def parse_cells(words: Iterable[str]) -> dict[str, str]:
    """Read ``KEY=VALUE…``; nothing after the sign empties a cell. Raises BadInput."""
    cells: dict[str, str] = {}
    for word in words:
        column, equals, value = word.partition("=")
        column = column.strip().lower()
        if not equals or not column:
            raise BadInput(f'{printable(word, 60)}: write it as KEY=VALUE: place="panel 2"')
        if column in cells:
            raise BadInput(f"{column}: is given twice")
        cells[column] = printable(value)
    return cells


def _row(name: str, plan: Plan) -> PlannedDevice:
    row = plan.by_name(name)
    if row is None:
        raise unknown(f"{printable(name, 60)}: is", name, plan)
    return row


def _parted(cells: Cells) -> dict[str, str]:
    """The cells, with a mask that stands behind the address in its own column."""
    parted = dict(cells)
    address, slash, mask = parted.get("address", "").partition("/")
    if slash:
        if parted.get("mask", mask) != mask:
            raise BadInput(f"{parted['address']}: has a mask, and mask={parted['mask']} another")
        parted |= {"address": address, "mask": mask}
    return parted


def _check_column(column: str, columns: Sequence[str]) -> None:
    known = [name for name in dict.fromkeys((*COLUMNS, *columns)) if name]
    if column in known:
        return
    close = get_close_matches(column, known, n=1)
    meant = f"did you mean {close[0]}?" if close else f"there are {', '.join(known)}"
    raise BadInput(f"{printable(column, 40)}: is no column of the plan", f"{meant}")


@dataclass(frozen=True, slots=True)
class Change:
    """A row of the plan that is new, gone, or has other values than before."""

    name: str
    was: PlannedDevice | None
    now: PlannedDevice | None

    @property
    def differences(self) -> dict[str, tuple[str, str]]:
        """By column, what it was and what it is."""
        was, now = cells_of(self.was), cells_of(self.now)
        columns = dict.fromkeys((*was, *now))
        return {
            column: (was.get(column, ""), now.get(column, ""))
            for column in columns
            if was.get(column, "") != now.get(column, "")
        }

    def __str__(self) -> str:
        if self.was is None:
            return f"{self.name} is added: {_described(self.now)}"
        if self.now is None:
            return f"{self.name} is removed; it was {_described(self.was)}"
        said = (
            f"{column} is {is_now or 'empty'}, was {was or 'empty'}"
            for column, (was, is_now) in self.differences.items()
        )
        return f"{self.name}: {'; '.join(said)}"


def changes(before: Plan, after: Plan) -> tuple[Change, ...]:
    """How a plan differs from another, row by row, in the order of the newer one.

    A row that was only renamed is the one whose address or MAC is the same.
    """
    return tuple(_changes(before, after))


def _changes(before: Plan, after: Plan) -> Iterator[Change]:
    old = {row.name: row for row in before.rows}
    new = {row.name for row in after.rows}
    gone = {name: row for name, row in old.items() if name not in new}
    for row in after.rows:
        was = old.get(row.name)
        if was is None:
            was = next((each for each in gone.values() if _is_the_same(each, row)), None)
            if was is not None:
                del gone[was.name]
        change = Change(was.name if was else row.name, was, row)
        if was is None or change.differences:
            yield change
    for row in gone.values():
        yield Change(row.name, row, None)


def _is_the_same(one: PlannedDevice, other: PlannedDevice) -> bool:
    if one.of or other.of:
        return (one.of, one.part) == (other.of, other.part)
    return one.address == other.address or (one.mac is not None and one.mac == other.mac)


def cells_of(row: PlannedDevice | None) -> dict[str, str]:
    """The cells of a row, by column, without empty ones; masks as prefix lengths."""
    if row is None:
        return {}
    said = {
        "name": row.name,
        "mac": str(row.mac or ""),
        "circuit": row.circuit.hex(),
        "address": "" if row.has_no_address else str(row.address),
        "mask": "" if row.mask_assumed or row.has_no_address else _prefix(row),
        "gateway": str(row.gateway or ""),
        "group": row.group,
        "kind": row.kind,
        "place": row.place,
        **row.expected.asked,
        "of": row.of,
        "part": str(row.part or ""),
        "note": row.note,
        **dict(row.extra),
    }
    return {column: value for column, value in said.items() if value}


def _prefix(row: PlannedDevice) -> str:
    return str(row.interface.network.prefixlen)


def _described(row: PlannedDevice | None) -> str:
    """A row's address and MAC, with what it is and where."""
    if row is None:
        return ""
    if row.has_no_address:
        parts: tuple[object, ...] = (f"{row.part} of {row.of}", row.kind, row.place)
    else:
        parts = (row.interface, row.mac or "no MAC", row.kind, row.place)
    return ", ".join(str(part) for part in parts if part)
