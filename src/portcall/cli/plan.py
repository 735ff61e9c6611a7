"""``portcall plan``."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import click
from rich.text import Text

from portcall.cli.main import BAD_INPUT, YES
from portcall.cli.options import json_option
from portcall.cli.say import note, print_json
from portcall.cli.table import (
    Columns,
    Remark,
    Tone,
    cell,
    left_out_sentence,
    print_lines,
    print_rows,
    wide_option,
)
from portcall.core.counted import counted
from portcall.core.plan.reading import PlanError
from portcall.core.plan.rows import Plan, PlannedDevice
from portcall.core.trouble import BadInput
from portcall.site.folder import this_site

_file_argument = click.argument(
    "file", required=False, type=click.Path(exists=True, dir_okay=False, path_type=Path)
)

_DROPS = ("gateway", "kind", "place", "note")


@click.group("plan")
def plan_command() -> None:
    """The plan: which device shall have which address; plan.csv, one row a device."""


@plan_command.command("check")
@_file_argument
@json_option
def check_command(file: Path | None, as_json: bool) -> int:
    """Check every rule of the plan and report all that are broken, with line and column.

    FILE is a plan elsewhere; without it, the site's plan.csv.

    \b
    portcall plan check
    portcall plan check drawing.csv --json
    """
    path, plan, error = _read(file)
    if as_json:
        problems = [
            {"line": problem.line, "column": problem.column, "problem": problem.text}
            for problem in (error.problems if error else ())
        ]
        print_json({"plan": str(path), "rows": len(plan.devices), "problems": problems})
        return BAD_INPUT if error else YES
    if error:
        raise error
    without_mac = [row.name for row in plan if row.mac is None]
    assumed = [row.name for row in plan if row.mask_assumed]
    told = [Remark(f"{path.name}: {counted(len(plan.devices), 'row')}, no mistakes", Tone.DONE)]
    if without_mac:
        told.append(Remark(f"without a MAC yet, not served: {', '.join(without_mac)}", Tone.TO_DO))
    if assumed:
        names = ", ".join(assumed)
        told.append(Remark(f"no mask in plan or site, /24 is assumed: {names}", Tone.TO_DO))
    print_lines(told)
    return YES


@plan_command.command("show")
@_file_argument
@wide_option
@json_option
def show_command(file: Path | None, wide: bool, as_json: bool) -> int:
    """Show the plan as it is understood.

    \b
    portcall plan show
    portcall plan show drawing.csv
    """
    _, plan, error = _read(file)
    if error:
        raise error
    if as_json:
        rows = [
            {
                "name": row.name,
                "mac": str(row.mac) if row.mac else None,
                "address": str(row.address),
                "prefix": row.interface.network.prefixlen,
                "gateway": str(row.gateway) if row.gateway else None,
                "kind": row.kind or None,
                "place": row.place or None,
                "note": row.note or None,
            }
            for row in plan
        ]
        print_json({"rows": rows})
        return YES
    columns = Columns(
        "name", "mac", "address", "gateway", "kind", "place", "note", drops=_DROPS, shrinks="note"
    )
    left_out = print_rows(columns, list(plan), _cells, wide=wide)
    if left_out:
        note(left_out_sentence(left_out))
    return YES


def _cells(row: PlannedDevice) -> Sequence[Text]:
    return (
        cell(row.name, "bold"),
        cell(row.mac),
        cell(row.interface),
        cell(row.gateway),
        cell(row.kind),
        cell(row.place),
        cell(row.note),
    )


def _read(file: Path | None) -> tuple[Path, Plan, PlanError | None]:
    site = this_site()
    path = file or site.plan_path
    if path is None:
        raise BadInput(
            "there is no plan.csv in this folder or above it; name a file, or make one that "
            "starts with the line name,mac,address,mask"
        )
    try:
        return path, site.read_plan(path), None
    except PlanError as error:
        return path, Plan(), error
