"""``portcall`` alone, at a site: where one stands, and what is next, in five lines."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import UTC, datetime

import click

from portcall.cli.say import ago, note, shown_path
from portcall.core.counted import counted
from portcall.core.finding import Line
from portcall.core.plan.reading import PlanError
from portcall.core.plan.rows import Plan
from portcall.core.record.standing import Standing
from portcall.core.trouble import Trouble
from portcall.jobs.record.reading import how_far
from portcall.jobs.workstation.adapters import adapters_now, matched_now, named_before
from portcall.site.folder import Site, this_site
from portcall.site.logbook.store import Logbook
from portcall.site.matches import open_matches


def say_where_one_stands() -> bool:
    """Say it; False where this is no site, and there is nothing to be said."""
    site = this_site()
    if site.folder is None:
        return False
    try:
        plan = site.plan()
    except PlanError as error:
        mistakes = counted(len(error.problems), "mistake")
        click.echo(f"{site.label}: the plan has {mistakes}: {Line('plan check')}")
        return True
    try:
        standing = how_far(Logbook(site.folder), plan)
    except Trouble as trouble:
        note(trouble)
        standing = Standing(())
    for line in _lines(site, plan, standing):
        click.echo(line)
    return True


def _lines(site: Site, plan: Plan, standing: Standing) -> Iterator[str]:
    rows = counted(len(plan.rows), "row")
    where = shown_path(site.plan_path) if site.plan_path else "no plan yet"
    yield f"{site.label}: {where}, {rows}" if site.plan_path else f"{site.label}: {where}"
    yield _computer(site)
    if standing.is_looked_at:
        yield f"{standing.right} of {len(plan.rows)} verified right{_last(standing)}"
    else:
        yield "nobody has looked at this plant yet"
    yield f"next: {_next(plan, standing)}"
    yield f"all of it: portcall --help; a device alone: {Line('visit', 'NAME')}"


def _computer(site: Site) -> str:
    matches = [entry for entry in open_matches() if entry.visitor is None]
    if matches:
        shown = ", ".join(f"{entry.added} on {entry.adapter}" for entry in matches)
        return f"this computer is matched: {shown}; when done: {Line('restore')}"
    before = named_before(site) or matched_now()
    name = before.name if before is not None else None
    for adapter in adapters_now():
        if adapter.name == name:
            own = ", ".join(map(str, adapter.interfaces)) or "no address"
            return f"this computer: {name}, {own}{'' if adapter.link else ', no link'}"
    return "this computer is as it was: nothing is matched"


def _last(standing: Standing) -> str:
    times = [each.verified for each in standing.rows if each.verified is not None]
    if not times:
        return ""
    return f", last judged {ago(max((datetime.now(UTC) - max(times)).total_seconds(), 0.0))}"


def _next(plan: Plan, standing: Standing) -> Line:
    if not standing.is_looked_at:
        return Line("find")
    if not plan.devices:
        return Line("plan take")
    lines = (each.next_line for each in standing.rows if not each.is_done)
    line = next((line for line in lines if line is not None), None)
    if line is not None:
        return line
    return Line("verify") if not standing.is_done else Line("report", "FILE")
