"""``portcall plan export``."""

from __future__ import annotations

import json
from collections.abc import Sequence
from datetime import datetime
from pathlib import Path

import click

from portcall import __version__
from portcall.cli.main import YES
from portcall.cli.options import group_option, plan_that_is_there
from portcall.cli.say import document_head, note
from portcall.cli.views.plan_rows import row_document
from portcall.core.counted import counted
from portcall.core.plan.changing import cells_of
from portcall.core.plan.columns import COLUMNS, extra_columns
from portcall.core.plan.rows import Plan, PlannedDevice
from portcall.core.plan.targets import rows_of_group
from portcall.core.trouble import BadInput
from portcall.site.files import write_whole
from portcall.site.folder import Site, this_site
from portcall.site.spreadsheet import Sheet, csv_text, write_spreadsheet

_KINDS = (".xlsx", ".csv", ".json")
_DELIMITERS = {"comma": ",", "semicolon": ";", "tab": "\t"}


@click.command("export")
@click.argument("file", type=click.Path(dir_okay=False, path_type=Path))
@click.option(
    "--delimiter",
    type=click.Choice(list(_DELIMITERS)),
    default="comma",
    show_default=True,
    help="What separates the cells of a .csv.",
)
@click.option("--bom", is_flag=True, help="Begin a .csv with a byte order mark: some need it.")
@click.option("--overwrite", is_flag=True, help="Write over a FILE that is there.")
@group_option
def export_command(
    file: Path, delimiter: str, bom: bool, overwrite: bool, group: str | None
) -> int:
    """Write the plan for somebody else: FILE.xlsx, FILE.csv or FILE.json.

    A spreadsheet gets a title, the date, a heading that stays in sight and is on every printed
    page, and only texts: no address becomes a date there, and no serial number a rounded one.

    \b
    portcall plan export "dryer line 2.xlsx"
    portcall plan export plan-for-customer.csv --delimiter semicolon --bom
    """
    kind = file.suffix.lower()
    if kind not in _KINDS:
        raise BadInput(f"{file}: ends in none of {', '.join(_KINDS)}, so what is to be written?")
    if kind != ".csv" and (bom or delimiter != "comma"):
        raise BadInput("--delimiter and --bom are for a .csv")
    site = this_site()
    plan = plan_that_is_there(site)
    if file.exists() and site.plan_path is not None and file.samefile(site.plan_path):
        raise BadInput(f"{file}: is the plan itself")
    if file.exists() and not overwrite:
        raise BadInput(f"{file}: is there already", "another name, or --overwrite")
    rows = list(plan.rows) if group is None else rows_of_group(group, plan)
    heading = _heading(plan, rows)
    cells = [[_cells(row).get(column, "") for column in heading] for row in rows]
    if kind == ".xlsx":
        write_spreadsheet(file, Sheet(_title(site, group), _below(rows), _titled(heading), cells))
    elif kind == ".csv":
        write_whole(file, csv_text([heading, *cells], _DELIMITERS[delimiter], bom))
    else:
        document = {**document_head(), "rows": [row_document(row) for row in rows]}
        text = json.dumps(document, indent=2, ensure_ascii=False) + "\n"
        write_whole(file, text.encode())
    note(f"{file}: {counted(len(rows), 'row')}")
    return YES


def _heading(plan: Plan, rows: Sequence[PlannedDevice]) -> list[str]:
    """The columns that some row has a word for, ours first."""
    told = {column for row in rows for column in cells_of(row)}
    ours = [column for column in COLUMNS if column in told]
    return ours + [column for column in extra_columns(plan.columns) if column in told]


def _cells(row: PlannedDevice) -> dict[str, str]:
    """A row's cells; for people outside the trade of networks, masks are dotted."""
    cells = cells_of(row)
    return {**cells, "mask": str(row.interface.netmask)} if "mask" in cells else cells


def _titled(heading: Sequence[str]) -> list[str]:
    return ["MAC" if column == "mac" else column[:1].upper() + column[1:] for column in heading]


def _title(site: Site, group: str | None) -> str:
    label = site.label or "Device plan"
    return f"{label}: {group}" if group else label


def _below(rows: Sequence[PlannedDevice]) -> str:
    day = datetime.now().astimezone().date().isoformat()
    return f"Device plan of {day}, {counted(len(rows), 'device')}, by Port Call {__version__}"
