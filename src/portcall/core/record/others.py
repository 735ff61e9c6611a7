"""What others changed in their copies of the plan, and is not so in the plan here."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping
from dataclasses import dataclass

from portcall.core.record.planned import RowChange

ROW = ""
"""Stands for a column: the whole row, which is there or not."""


@dataclass(frozen=True, slots=True)
class OtherValue:
    """A cell that others changed: what they have since, what is here, and what it was before.

    ``column`` is ``ROW`` for a row that they added or removed; then the values tell which.
    """

    name: str
    column: str
    there: str
    here: str
    was: str
    change: RowChange

    @property
    def is_conflict(self) -> bool:
        """Whether both changed it: here it is neither what they have nor what it was before."""
        return self.here not in (self.there, self.was)

    @property
    def is_row(self) -> bool:
        """Whether it is about a row as a whole."""
        return self.column == ROW


def others_values(
    plan: Mapping[str, Mapping[str, str]],
    changes: Iterable[tuple[RowChange, bool]],
    kept: Collection[str] = (),
) -> list[OtherValue]:
    """The cells that others changed and that are otherwise here, by row and column.

    ``plan`` has the cells of each row by its name; ``changes`` are all that were done, the oldest
    first, each with whether it was done here; ``kept`` are entries that somebody decided against.
    A value that was here, and was changed from here on, is known.
    """
    rows = {name.casefold(): row for name, row in plan.items()}
    found: dict[tuple[str, str], OtherValue] = {}
    for change, is_own in changes:
        name = change.name.casefold()
        if is_own:
            for column, (was, _) in _cells(change).items():
                other = found.get((name, column))
                if other is not None and other.there == was:
                    del found[name, column]
            continue
        row = rows.get(name) or rows.get((change.now or {}).get("name", "").casefold())
        for column, (was, there) in _cells(change).items():
            if column == ROW:
                here = "there" if row is not None else "not there"
            elif row is None:
                continue
            else:
                here = row.get(column, "")
            earlier = found.pop((name, column), None)
            if here != there and change.entry.uid not in kept:
                # Several changes of others are one from here: of what it was before the first.
                first = was if earlier is None else earlier.was
                value = OtherValue(change.name, column, there, here, first, change)
                found[name, column] = value
    return list(found.values())


def _cells(change: RowChange) -> dict[str, tuple[str, str]]:
    if change.was is None:
        return {ROW: ("not there", "there")}
    if change.now is None:
        return {ROW: ("there", "not there")}
    return change.columns


def rows_to_take(
    values: Iterable[OtherValue],
) -> tuple[dict[str, dict[str, str]], list[dict[str, str]], list[str]]:
    """What brings these values here: cells to set, rows to add, and rows to remove."""
    cells: dict[str, dict[str, str]] = {}
    added: list[dict[str, str]] = []
    removed: list[str] = []
    for each in values:
        if not each.is_row:
            cells.setdefault(each.name, {})[each.column] = each.there
        elif each.change.now is not None:
            added.append(dict(each.change.now))
        else:
            removed.append(each.name)
    return cells, added, removed
