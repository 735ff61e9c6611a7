"""Changes of the plan, as the logbook tells them: which were done, and what the plan was then."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from datetime import datetime
from functools import partial
from typing import Any

from portcall.core.document import Part, a_text
from portcall.core.record.entry import Entry, Kind

TAKEN_BACK = "taken back"
"""The step of a line that says: the plan is as it was before a change that was announced."""

BEGUN = "begun"
"""The key of the rows of a plan that was first seen, or that was written anew by hand."""

BY_HAND = "hand"

_LONGEST = 400
Cells = dict[str, str]


@dataclass(frozen=True, slots=True)
class RowChange:
    """A change of one row that was done: its cells before and after, None where there was none."""

    entry: Entry
    name: str
    was: Cells | None
    now: Cells | None
    by_hand: bool

    @property
    def columns(self) -> dict[str, tuple[str, str]]:
        """By column, what it was and what it is since."""
        was, now = self.was or {}, self.now or {}
        both = dict.fromkeys((*was, *now))
        return {
            each: (was.get(each, ""), now.get(each, ""))
            for each in both
            if was.get(each, "") != now.get(each, "")
        }

    def __str__(self) -> str:
        """In words: what is planned for the row since, and what was before."""
        if self.now is None:
            return f"{self.name} is not planned any more"
        if self.was is None:
            return f"{self.name} is planned: {self.now.get('address') or 'without an address'}"
        told = (
            f"{key} is {now or 'empty'}, was {was or 'empty'}"
            for key, (was, now) in self.columns.items()
        )
        return f"{self.name}: {'; '.join(told)}"


def _replaced(rows: dict[str, Cells], change: RowChange) -> dict[str, Cells]:
    """Rows with one that is otherwise, in its place, or new, or gone."""
    old, now = change.name.casefold(), change.now
    new = {} if now is None else {now.get("name", change.name).casefold(): now}
    if old not in rows:
        return {**rows, **new}
    found: dict[str, Cells] = {}
    for name, row in rows.items():
        found |= new if name == old else {name: row}
    return found


def is_only_noticed(entry: Entry, body: Mapping[str, Any]) -> bool:
    """Whether an entry tells of the plan, but of no change of it."""
    said = Part(body)
    return entry.kind is Kind.PLAN and not (said.part("was") or said.part("is") or _step(said))


def done_changes(entries: Iterable[tuple[Entry, Mapping[str, Any]]]) -> Iterator[RowChange]:
    """The changes of rows that were done, oldest first, out of entries in order of time.

    A change is written down before the plan is. Where a later line says that the plan is as it was,
    it was never done, or taken back.
    """
    plans = [(entry, Part(body)) for entry, body in entries if entry.kind is Kind.PLAN]
    undone = {body.get("change", a_text, "") for _, body in plans if _step(body)}
    for entry, body in plans:
        was, now = cells_in(body.part("was")), cells_in(body.part("is"))
        is_done = body.get("change", a_text, "") not in undone - {""}
        if (was or now) and is_done:
            by_hand = body.get("by", a_text) == BY_HAND
            yield RowChange(entry, entry.name, was or None, now or None, by_hand)


def plan_rows_at(
    entries: Iterable[tuple[Entry, Mapping[str, Any]]], until: datetime
) -> tuple[list[Cells], datetime | None]:
    """The rows of the plan as they were before a moment, and since when the logbook knows of it.

    ``entries`` are those of one workstation, in order of time. None for a plan of which the logbook
    does not know the beginning.
    """
    before = [(entry, body) for entry, body in entries if entry.at < until]
    rows: dict[str, Cells] = {}
    since: datetime | None = None
    done = {each.entry.uid: each for each in done_changes(before)}
    for entry, body in before:
        if entry.kind is not Kind.PLAN:
            continue
        said = Part(body)
        if said.has_list(BEGUN):
            listed = map(cells_in, said.parts(BEGUN))
            rows = {each.get("name", "").casefold(): each for each in listed}
            since = since or entry.at
        change = done.get(entry.uid)
        if change is not None:
            since = since or entry.at
            rows = _replaced(rows, change)
    return list(rows.values()), since


def _step(said: Part) -> bool:
    """Whether a line takes a change back."""
    return said.get("step", a_text) == TAKEN_BACK


def cells_in(row: Part) -> Cells:
    """The cells of a row that is part of an entry, which others may have written."""
    read = partial(a_text, longest=_LONGEST)
    return {a_text(key, _LONGEST): text for key in row if (text := row.get(key, read, ""))}
