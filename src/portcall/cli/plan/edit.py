"""``portcall plan add``, ``plan set`` and ``plan remove``."""

from __future__ import annotations

from collections.abc import Callable
from typing import TypeVar

import click

from portcall.cli.main import YES
from portcall.cli.options import adapter_option, chosen_adapter, json_option
from portcall.cli.say import note, print_json, shown_path, wants_json
from portcall.cli.table import Remark, Tone, print_lines
from portcall.core.address import is_written_as_mac, parse_mac
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
from portcall.core.plan.inside import part_named
from portcall.core.printable import printable
from portcall.core.trouble import BadInput
from portcall.jobs.workstation.next_free import next_free
from portcall.site.folder import this_site

F = TypeVar("F", bound=Callable[..., object])


def _cell_options(command: F) -> F:
    """An option for each column of the plan."""
    for column, meaning in reversed(MEANINGS.items()):
        command = click.option(f"--{column}", metavar=column.upper(), help=meaning)(command)
    return command


@click.command("add")
@click.argument("name")
@click.argument("words", nargs=-1, metavar="[ADDRESS[/N]] [MAC]")
@_cell_options
@adapter_option
@json_option
def add_command(name: str, words: tuple[str, ...], **cells: str | None) -> int:
    """Add a device to the plan; without a plan, one is begun in this folder.

    Without ADDRESS it gets the next free one, which is asked for on the wire. Every rule of the
    plan is checked before anything is written.

    A part of a device is named after it, fan-panel.port-2 or weigh-gateway.unit-17, or --of and
    --part say so. A unit or a module needs no address.

    \b
    portcall plan add hood-fan 10.61.20.60/24 02-77-B1-00-00-60
    portcall plan add weigh-gateway.unit-17 --product "Reed 5 moisture"
    portcall plan add hood-fan --kind drive --place "roof"
    """
    given = {column: printable(text) for column, text in cells.items() if text is not None}
    macs = [word for word in words if is_written_as_mac(word)]
    addresses = [word for word in words if word not in macs]
    if len(macs) > 1 or len(addresses) > 1 or (macs and "mac" in given):
        raise BadInput(f"{' '.join(words)}: a row has one ADDRESS and one MAC")
    if macs:
        given["mac"] = str(parse_mac(macs[0]))
    if addresses and "address" in given:
        raise BadInput(f"{addresses[0]} and --address {given['address']}: name the address once")
    given = {**part_named(name, this_site().plan()), **given}
    address = given.pop("address", None) or (addresses[0] if addresses else None)
    if address is None and "part" not in given:
        address = _next(name)
    return _change(adding([{"name": name, "address": address or "", **given}]))


def _next(name: str) -> str:
    """The next address that is free for a device."""
    site = this_site()
    plan = site.plan()
    known = plan.by_name(name)
    if known is not None:
        raise BadInput(f"{name}: is in the plan already, at {known.address}")
    return str(next_free(chosen_adapter(), site, plan, note))


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
