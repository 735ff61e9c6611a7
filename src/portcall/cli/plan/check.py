"""``portcall plan check`` and ``portcall plan show``."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import click

from portcall.cli.main import BAD_INPUT, YES
from portcall.cli.options import group_option, json_option
from portcall.cli.say import note, print_json, shown_path, wants_json
from portcall.cli.table import Remark, Tone, print_lines, wide_option
from portcall.cli.views.plan_rows import extra_columns_sentences, print_plan, row_document
from portcall.core.counted import counted
from portcall.core.finding import Line
from portcall.core.plan.reading import PlanError
from portcall.core.plan.rows import Plan
from portcall.core.plan.targets import rows_of_group
from portcall.core.trouble import BadInput
from portcall.jobs.record.plan_history import plan_at
from portcall.jobs.record.reading import parse_time
from portcall.site.folder import this_site

_file_argument = click.argument(
    "file", required=False, type=click.Path(exists=True, dir_okay=False, path_type=Path)
)


@click.command("check")
@_file_argument
@json_option
def check_command(file: Path | None) -> int:
    """Check every rule of the plan and report all that are broken, with line and column.

    FILE is a plan elsewhere; without it, the site's plan.csv.

    \b
    portcall plan check
    portcall plan check drawing.csv --json
    """
    path, plan, error = _read(file)
    if wants_json():
        problems = [
            {"line": problem.line or None, "column": problem.column, "problem": problem.text}
            for problem in (error.problems if error else ())
        ]
        print_json({"plan": str(path), "rows": len(plan.rows), "problems": problems})
        return BAD_INPUT if error else YES
    if error:
        raise error
    sound = f"{shown_path(path)}: {counted(len(plan.rows), 'row')}, no mistakes"
    print_lines([Remark(sound, Tone.DONE), *_still_to_do(plan)])
    return YES


def _still_to_do(plan: Plan) -> Iterator[Remark]:
    unknown = [row.name for row in plan if not row.is_served]
    if unknown:
        yield Remark(f"without a MAC yet, not served: {', '.join(unknown)}", Tone.TO_DO)
    assumed: dict[int, list[str]] = {}
    for row in plan:
        if row.mask_assumed:
            assumed.setdefault(row.interface.network.prefixlen, []).append(row.name)
    for prefix, names in assumed.items():
        said = f"no mask in plan or site, /{prefix} is assumed: {', '.join(names)}"
        yield Remark(said, Tone.TO_DO)
    for sentence in extra_columns_sentences(plan.columns):
        yield Remark(sentence)


@click.command("show")
@_file_argument
@group_option
@click.option(
    "--at", metavar="TIME", help='As it was then: yesterday, 2026-11-20, "2026-11-20 14:00".'
)
@wide_option
@json_option
def show_command(file: Path | None, group: str | None, at: str | None, wide: bool) -> int:
    """Show the plan as it is understood, or as it was: at the end of a day, or at a moment.

    \b
    portcall plan show
    portcall plan show --at yesterday
    """
    if at is not None and file is not None:
        raise BadInput("--at: the logbook knows only the site's own plan, not a FILE")
    if at is not None:
        plan, error = plan_at(this_site(), parse_time(at).ends), None
    else:
        _, plan, error = _read(file)
    if error:
        raise error
    rows = list(plan.rows) if group is None else rows_of_group(group, plan)
    if wants_json():
        print_json({"rows": [row_document(row) for row in rows]})
        return YES
    print_plan(rows, wide)
    for sentence in extra_columns_sentences(plan.columns):
        note(sentence)
    return YES


def _read(file: Path | None) -> tuple[Path, Plan, PlanError | None]:
    site = this_site()
    path = file or site.plan_path
    if path is None:
        raise BadInput(
            "there is no plan.csv in this folder or above it; name a file, or begin one",
            Line("plan take"),
        )
    try:
        return path, site.read_plan(file) if file else site.plan(), None
    except PlanError as error:
        return path, Plan(), error
