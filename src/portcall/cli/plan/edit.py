"""``portcall plan add``, ``plan set`` and ``plan remove``."""

from __future__ import annotations

from collections.abc import Callable
from typing import TypeVar

import click

from portcall.cli.main import YES
from portcall.cli.options import json_option
from portcall.cli.say import print_json, shown_path, wants_json
from portcall.cli.table import Remark, Tone, print_lines
from portcall.core.plan.changing import (
    Change,
    Edit,
    adding,
    cells_of,
    parse_cells,
    removing,
    setting,
)
from portcall.core.plan.columns import MEANINGS
from portcall.core.printable import printable
from portcall.site.folder import this_site

F = TypeVar("F", bound=Callable[..., object])


def _cell_options(command: F) -> F:
    """An option for each column of the plan."""
    for column, meaning in reversed(MEANINGS.items()):
        command = click.option(f"--{column}", metavar=column.upper(), help=meaning)(command)
    return command


@click.command("add")
@click.argument("name")
@click.argument("address", metavar="ADDRESS[/N]")
@_cell_options
@json_option
def add_command(name: str, address: str, **cells: str | None) -> int:
    """Add a device to the plan; without a plan, one is begun in this folder.

    Every rule of the plan is checked before anything is written.

    \b
    portcall plan add hood-fan 10.61.20.60/24 --mac 02-77-B1-00-00-60
    portcall plan add hood-fan 10.61.20.60 --kind drive --place "roof"
    """
    given = {column: printable(text) for column, text in cells.items() if text is not None}
    return _change(adding([{"name": name, "address": address, **given}]))


@click.command("set")
@click.argument("name")
@click.argument("cells", nargs=-1, metavar="KEY=VALUE…", required=True)
@json_option
def set_command(name: str, cells: tuple[str, ...]) -> int:
    """Change what the plan says of a device.

    KEY is a column of the plan; nothing after the sign empties it. Whatever else is in the file
    stays as it is, octet for octet.

    \b
    portcall plan set fan-drive-1 mac=02-77-B1-4C-09-22
    portcall plan set fan-drive-1 address=10.61.20.31/24 note=
    """
    return _change(setting(name, parse_cells(cells)))


@click.command("remove")
@click.argument("names", nargs=-1, metavar="NAME…", required=True)
@json_option
def remove_command(names: tuple[str, ...]) -> int:
    """Remove devices from the plan.

    \b
    portcall plan remove hood-fan
    portcall plan remove hood-fan pier-radio
    """
    return _change(removing(names))


def _change(edit: Edit) -> int:
    site = this_site()
    changed = site.change_plan(edit)
    file = shown_path(site.own_plan)
    if wants_json():
        print_json({"plan": str(site.own_plan), "changes": [change_document(c) for c in changed]})
    elif changed:
        print_lines(Remark(f"{file}: {change}", Tone.DONE) for change in changed)
    else:
        print_lines([Remark(f"{file}: says that already, nothing is changed")])
    return YES


def change_document(change: Change) -> dict[str, object]:
    """A change of the plan, as ``--json`` has it."""
    return {
        "name": change.name,
        "was": cells_of(change.was) or None,
        "is": cells_of(change.now) or None,
    }
