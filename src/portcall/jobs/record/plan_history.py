"""The plan's history: what it was, and what others changed that is not so here."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime

from portcall.core.document import Part, a_text
from portcall.core.plan.changing import cells_of
from portcall.core.plan.reading import parse_plan
from portcall.core.plan.rows import Plan
from portcall.core.record.entry import Kind
from portcall.core.record.others import OtherValue, others_values
from portcall.core.record.planned import RowChange, done_changes, plan_rows_at
from portcall.core.trouble import BadInput
from portcall.site.folder import Site
from portcall.site.logbook.folder import source_named, this_workstation
from portcall.site.logbook.plan_changes import KEPT, record_kept
from portcall.site.logbook.store import Logbook
from portcall.site.spreadsheet import csv_text


def plan_at(site: Site, until: datetime) -> Plan:
    """The plan of this folder as it was before a moment. Raises BadInput, NotPossibleHere."""
    site.notice_plan()
    book = Logbook(site.folder)
    mine = [each for each in book.entries((Kind.PLAN,)) if _is_own(each.source)]
    whole = [(each.entry, body) for each, body in book.with_bodies(mine)]
    rows, since = plan_rows_at(whole, until)
    if since is None or since >= until:
        if since is None:
            raise BadInput("the logbook does not tell what the plan was")
        raise BadInput(f"the logbook knows the plan from {since.astimezone():%Y-%m-%d %H:%M} on")
    columns = list(dict.fromkeys(key for row in rows for key in row))
    if not columns:
        return Plan()
    lines = [columns, *([row.get(key, "") for key in columns] for row in rows)]
    return parse_plan(csv_text(lines, ",", mark=False), "the plan of then", site.subnets)


def planned_between(
    book: Logbook, since: datetime | None, until: datetime | None
) -> list[RowChange]:
    """The changes of the plan that were done from a moment on and before another, oldest first.

    Nothing where one of the moments is not known.
    """
    if since is None or until is None:
        return []
    found = [each for each in book.entries((Kind.PLAN,)) if not each.entry.misdated]
    whole = ((each.entry, body) for each, body in book.with_bodies(found))
    return [each for each in done_changes(whole) if since <= each.entry.at < until]


def values_of_others(site: Site) -> list[OtherValue]:
    """The cells that others changed, and that are otherwise in the plan here.

    Raises PlanError, NotPossibleHere.
    """
    plan = {str(row.name): cells_of(row) for row in site.plan().rows}
    book = Logbook(site.folder)
    found = [each for each in book.entries((Kind.PLAN,)) if not each.entry.misdated]
    whole = [(each.entry, body) for each, body in book.with_bodies(found)]
    own = {each.entry.uid for each in found if _is_own(each.source)}
    kept = {
        uid for entry, body in whole if entry.uid in own for uid in Part(body).each(KEPT, a_text)
    }
    changes = ((each, each.entry.uid in own) for each in done_changes(whole))
    return others_values(plan, changes, kept)


def keep_as_here(site: Site, values: Sequence[OtherValue]) -> None:
    """Write down that these are left as they are here. Raises NotPossibleHere."""
    if values:
        record_kept(site.own_plan.parent, sorted({each.change.entry.uid for each in values}))


def _is_own(source: str) -> bool:
    named = source_named(source)
    return named is not None and named.workstation == this_workstation()
