"""``portcall plan undo`` and ``portcall plan others``."""

from __future__ import annotations

from collections.abc import Sequence

import click
from rich.text import Text

from portcall.cli.main import NO, YES
from portcall.cli.options import json_option
from portcall.cli.plan.edit import change_document
from portcall.cli.say import note, print_json, shown_path, wants_json, zone_words
from portcall.cli.table import Columns, Remark, Tone, cell, print_lines, print_rows
from portcall.cli.views.plan_others import other_document
from portcall.core.plan.changing import Change, merging, removing
from portcall.core.printable import printable
from portcall.core.record.others import OtherValue, rows_to_take
from portcall.core.trouble import BadInput
from portcall.jobs.record.plan_history import keep_as_here, values_of_others
from portcall.site.folder import Site, this_site


@click.command("undo")
@click.option("--dry-run", is_flag=True, help="Only say what would be as before.")
@json_option
def undo_command(dry_run: bool) -> int:
    """Take the last change of the plan back: the file is as it was, octet for octet.

    Only where nothing else changed it since. Once more, and the change before that is taken back.

    \b
    portcall plan undo
    portcall plan undo --dry-run
    """
    site = this_site()
    changed = site.undo_plan(dry_run)
    _say(site, changed, "would be as before: " if dry_run else "as before: ")
    return YES


@click.command("others")
@click.option("--take", "taken", multiple=True, metavar="NAME", help="Have a row as they have it.")
@click.option("--keep", "kept", multiple=True, metavar="NAME", help="Leave a row as it is here.")
@json_option
def others_command(taken: tuple[str, ...], kept: tuple[str, ...]) -> int:
    """What others changed in their plan, and is not so in the plan here.

    Their changes come with "portcall logbook sync". A cell that both changed is a conflict. Nothing
    is taken that is not named; what is kept is not shown again. Ends with 1 while some are left.

    \b
    portcall plan others
    portcall plan others --take fan-drive-1 --keep hood-fan
    """
    site = this_site()
    values = values_of_others(site)
    for name in (*taken, *kept):
        if not any(each.name.casefold() == name.casefold() for each in values):
            raise BadInput(f"{printable(name, 60)}: nobody else changed this row otherwise")
    changed: list[Change] = []
    chosen = _named(values, taken)
    if chosen:
        cells, added, removed = rows_to_take(chosen)
        if cells or added:
            changed += site.change_plan(merging(cells, added))
        if removed:
            changed += site.change_plan(removing(removed))
    keep_as_here(site, _named(values, kept))
    left = [each for each in values if each not in chosen and each not in _named(values, kept)]
    if wants_json():
        print_json(
            {
                "changes": [change_document(each) for each in changed],
                "others": [other_document(each) for each in left],
            }
        )
        return NO if left else YES
    if changed:
        _say(site, changed, "")
    if not left:
        note("the plan here is as the others have it, as far as the logbook tells")
        return YES
    columns = Columns(
        *("name", "column", "here", "there", "before", "by", "when", "what"),
        drops=("before", "when"),
        shrinks="there",
    )
    print_rows(columns, left, _cells, wide=False)
    note(f"times are in {zone_words()}")
    note(f"to have a row as they have it: portcall plan others --take {left[0].name}")
    note(f"to leave it as it is here: portcall plan others --keep {left[0].name}")
    return NO


def _named(values: Sequence[OtherValue], names: Sequence[str]) -> list[OtherValue]:
    wanted = {name.casefold() for name in names}
    return [each for each in values if each.name.casefold() in wanted]


def _cells(each: OtherValue) -> Sequence[Text]:
    entry = each.change.entry
    return (
        cell(each.name, "bold"),
        cell(each.column or "the row"),
        cell(each.here or "empty"),
        cell(each.there or "empty"),
        cell(each.was or "empty"),
        cell(f"{entry.person}@{entry.workstation}"),
        cell(f"{entry.at.astimezone():%Y-%m-%d %H:%M}"),
        cell("conflict" if each.is_conflict else "", "red"),
    )


def _say(site: Site, changed: Sequence[Change], how: str) -> None:
    if wants_json():
        print_json({"plan": str(site.own_plan), "changes": [change_document(c) for c in changed]})
        return
    file = shown_path(site.own_plan)
    print_lines(Remark(f"{file}: {how}{change}", Tone.DONE) for change in changed)
