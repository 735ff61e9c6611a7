"""``portcall plan import``."""

from __future__ import annotations

import sys
from collections.abc import Mapping, Sequence
from pathlib import Path

import click

from portcall.cli.main import NO, YES
from portcall.cli.options import json_option
from portcall.cli.plan.edit import change_document
from portcall.cli.say import note, print_json, shown_path, wants_json
from portcall.cli.table import wide_option
from portcall.cli.views.imported import print_understood, understood_document
from portcall.core.counted import counted
from portcall.core.plan.changing import Change, merging
from portcall.core.plan.columns import COLUMNS
from portcall.core.plan.importing import Relation, Said, Understood, has_heading, understand
from portcall.core.printable import printable
from portcall.core.trouble import BadInput
from portcall.site.folder import Site, this_site
from portcall.site.spreadsheet import Table, read_tables


@click.command("import")
@click.argument("file", type=click.Path(exists=True, dir_okay=False, path_type=Path))
@click.option("--sheet", metavar="NAME", help="Which sheet, where several could be meant.")
@click.option(
    "--column",
    "named",
    multiple=True,
    metavar='COLUMN="HEADING"',
    help='What a heading means, where that is not understood: address="IP-Adr."',
)
@click.option(
    "--keep",
    "kept",
    multiple=True,
    metavar='"HEADING"',
    help="A heading that means nothing here: its column stays one of your own.",
)
@click.option("--leave", metavar="LINES", help="Lines of FILE that are no rows: 7,12-14.")
@click.option("--struck", is_flag=True, help="Rows that are struck through are meant, too.")
@click.option(
    "--encoding", metavar="NAME", help="How a CSV file is encoded, where that is not sure: cp1250."
)
@click.option("--update", is_flag=True, help="Change rows of the plan to what the file says.")
@click.option("--yes", is_flag=True, help="Take the rows without asking.")
@click.option("--dry-run", is_flag=True, help="Show what is understood, and write nothing.")
@wide_option
@json_option
def import_command(
    file: Path,
    sheet: str | None,
    named: tuple[str, ...],
    kept: tuple[str, ...],
    leave: str | None,
    struck: bool,
    encoding: str | None,
    update: bool,
    yes: bool,
    dry_run: bool,
    wide: bool,
) -> int:
    """Take the rows of a spreadsheet into the plan: .xlsx, or CSV with any delimiter.

    Headings are understood in the words and languages that people use for them; titles above the
    heading do not matter; a mask may stand behind the address. It shows what it understood before
    it writes. Every mistake is named with its line, and then nothing is written; what can mean two
    things is asked, and not guessed. Rows that the plan has already stay as they are, unless
    --update.

    \b
    portcall plan import "IP list.xlsx"
    portcall plan import list.csv --column address="Addr. 2" --dry-run
    """
    asks = not (yes or dry_run)
    if asks and (wants_json() or not (sys.stdin.isatty() and sys.stdout.isatty())):
        raise BadInput("there is nobody at a terminal to ask: --yes takes the rows, --dry-run not")
    chosen = _chosen(named)
    site = this_site()
    plan = site.plan()
    table = _table(file, sheet, chosen, encoding)
    source = f"{file.name}, sheet {table.sheet}," if table.sheet else file.name
    said = Said(_lines(leave), kept, table.struck, struck, table.hidden_columns)
    understood = understand(table.lines, source, plan, site.subnets, chosen, said)
    if not wants_json():
        print_understood(understood, table, update, wide)
    wanted = _wanted(understood, update)
    changed: tuple[Change, ...] = ()
    if wanted and not (asks and not _confirmed()):
        changed = _written(site, understood, update, dry_run)
    if wants_json():
        written = bool(changed) and not dry_run
        told = [change_document(change) for change in changed]
        head = {"file": str(file), "sheet": table.sheet or None, "written": written}
        print_json({**head, **understood_document(understood), "changes": told})
        return YES
    return _said(site, wanted, changed, dry_run)


def _chosen(named: Sequence[str]) -> dict[str, str]:
    """The meanings that ``--column`` gives. Raises BadInput."""
    chosen: dict[str, str] = {}
    for text in named:
        column, equals, heading = text.partition("=")
        column = column.strip().lower()
        if not equals or not heading.strip():
            raise BadInput(f'--column {printable(text, 60)}: write it as address="IP-Adr."')
        if column not in COLUMNS:
            listed = ", ".join(COLUMNS)
            raise BadInput(f"--column {printable(column, 40)}: the plan's columns are {listed}")
        chosen[column] = heading
    return chosen


def _lines(text: str | None) -> frozenset[int]:
    """Numbers of lines, from ``7,12-14``. Raises BadInput."""
    found: set[int] = set()
    for part in text.split(",") if text else ():
        first, _, last = part.strip().partition("-")
        last = last or first
        is_right = first.isdecimal() and last.isdecimal() and len(first + last) < 14
        if not is_right or not 0 < int(first) <= int(last) < int(first) + _MOST_LEFT:
            raise BadInput(f"--leave {printable(part, 20)}: lines are written as 7,12-14")
        found.update(range(int(first), int(last) + 1))
    return frozenset(found)


_MOST_LEFT = 10_000


def _table(file: Path, sheet: str | None, chosen: Mapping[str, str], encoding: str | None) -> Table:
    """The table that is meant. Raises BadInput where several could be."""
    tables = read_tables(file, encoding)
    listed = ", ".join(table.sheet for table in tables)
    if sheet is not None:
        for table in tables:
            if table.sheet.casefold() == sheet.strip().casefold():
                return table
        there = f"the sheets are {listed}" if listed else "it has no sheets"
        raise BadInput(
            f"--sheet {printable(sheet, 40)}: {file.name} has none of that name", f"{there}"
        )
    likely = [table for table in tables if has_heading(table.lines, chosen)]
    if len(likely) > 1:
        names = ", ".join(table.sheet for table in likely)
        raise BadInput(
            f"{file.name}: has addresses in several sheets, {names}", "say which: --sheet"
        )
    if not tables:
        raise BadInput(f"{file.name}: has no visible sheet")
    return likely[0] if likely else tables[0]


def _wanted(understood: Understood, update: bool) -> int:
    """How many rows would be written."""
    written = (Relation.NEW, Relation.DIFFERS) if update else (Relation.NEW,)
    return sum(each.standing in written for each in understood.rows)


def _confirmed() -> bool:
    said: str = click.prompt("Enter takes them; n: none", default="", show_default=False, err=True)
    return said.strip() == ""


def _written(site: Site, understood: Understood, update: bool, dry_run: bool) -> tuple[Change, ...]:
    changed: dict[str, Mapping[str, str]] = {
        each.row.name: {column: each.cells[column] for column in each.differences}
        for each in understood.rows
        if update and each.standing is Relation.DIFFERS
    }
    new = [each.cells for each in understood.rows if each.standing is Relation.NEW]
    return site.change_plan(merging(changed, new), dry_run)


def _said(site: Site, wanted: int, changed: Sequence[Change], dry_run: bool) -> int:
    if not wanted:
        note("nothing to take: the plan has these rows")
        return YES
    if not changed:
        note("nothing is written")
        return NO
    rows = counted(len(changed), "row")
    if dry_run:
        note(f"{rows} would be added or changed; nothing is written")
    else:
        note(f"{shown_path(site.own_plan)}: {rows} added or changed: portcall plan check")
    return YES
