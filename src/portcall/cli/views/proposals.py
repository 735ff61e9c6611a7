"""``plan take``: the rows that are proposed, and asking once which of them are taken."""

from __future__ import annotations

from collections.abc import Sequence

import click
from rich.text import Text

from portcall.cli.say import note
from portcall.cli.table import (
    Columns,
    Remark,
    Tone,
    cell,
    console,
    left_out_sentence,
    print_lines,
    print_rows,
)
from portcall.cli.views.devices import MARK, addresses, what
from portcall.cli.views.plan_rows import plan_cells, plan_columns
from portcall.core.counted import counted
from portcall.core.csv_text import (
    BrokenLine,
    TableLine,
    csv_line,
    delimiter_in,
    lines_in,
    lines_of,
)
from portcall.core.find.proposing import LeftOut, Proposal
from portcall.core.plan.changing import Cells
from portcall.core.plan.columns import COLUMNS


def print_proposals(
    found: int, proposals: Sequence[Proposal], left_out: Sequence[LeftOut], wide: bool
) -> None:
    """The rows as the plan would have them; below, who gets none of so many found, and why."""
    planned = found - len(proposals) - len(left_out)
    note(
        f"{counted(found, 'device')} found: {planned} planned, {len(proposals)} "
        f"proposed, {len(left_out)} left out"
    )
    if proposals:
        no_room = print_rows(
            plan_columns(),
            proposals,
            lambda each: plan_cells(each.row),
            lambda each: [Remark(each.remark, Tone.TO_DO)] if each.remark else (),
            wide,
        )
        if no_room:
            note(left_out_sentence(no_room))
    if left_out:
        console().print(Text("left out", "bold"))
        print_lines(_left_out(each) for each in left_out)


def print_parts(parts: Sequence[Cells]) -> None:
    """The rows that parts of devices would get."""
    if not parts:
        return
    console().print(Text("inside", "bold"))
    columns = Columns("name", "part", "address", "product", "serial", shrinks="product")
    print_rows(columns, parts, _part_cells)


def _part_cells(cells: Cells) -> Sequence[Text]:
    where = f"{cells['part']} of {cells['of']}"
    shown = (cells.get(column) for column in ("address", "product", "serial"))
    return [cell(cells["name"], "bold"), cell(where), *map(cell, shown)]


def _left_out(each: LeftOut) -> Remark:
    said = f"{_who(each)}: {each.reason.sentence}"
    return Remark(said, line=each.reason.line, mark=f"{MARK} ")


def _who(each: LeftOut) -> str:
    """A device in a line: its MAC or address, and what it is."""
    device = each.device
    named = str(device.mac) if device.mac else addresses(device)
    described = what(device)
    return f"{named} ({described})" if described else named


class Choice:
    """The rows to choose of, and those that were edited last and broke a rule."""

    def __init__(self, proposals: Sequence[Proposal], parts: Sequence[Cells] = ()) -> None:
        self.proposals = proposals
        self.parts = parts
        self.edited: Sequence[Cells] | None = None


_QUESTION = "Enter takes {what}; e: edit first; r: row by row; n: none"


def choose(choice: Choice) -> Sequence[Cells]:
    """Ask which rows are taken; none is an answer. Raises click.Abort."""
    rows: Sequence[Cells] = [*(each.cells for each in choice.proposals), *choice.parts]
    if choice.edited is not None:
        rows = choice.edited
    while True:
        count = len(rows)
        question = _QUESTION.format(what="it" if count == 1 else f"these {count}")
        said = click.prompt(question, default="", show_default=False, err=True).strip().lower()
        if said == "":
            return rows
        if said == "n":
            return ()
        if said == "r":
            taken = _row_by_row(choice.proposals)
            return [*taken, *_parts_of(taken, choice)]
        if said == "e":
            rows = _edited(rows)


def _parts_of(taken: Sequence[Cells], choice: Choice) -> list[Cells]:
    """The parts of the devices that are taken, and of those that are in the plan, if wanted."""
    proposed = {each.cells["name"]: each.cells for each in choice.proposals}
    names = {cells.get("mac"): cells["name"] for cells in taken}
    parts: list[Cells] = []
    for part in choice.parts:
        device = proposed.get(part["of"])
        owner = part["of"] if device is None else names.get(device.get("mac"))
        if owner is not None and click.confirm(f"  {part['part']} of {owner}?", True, err=True):
            parts.append({**part, "of": owner})
    return parts


def _row_by_row(proposals: Sequence[Proposal]) -> Sequence[Cells]:
    """Ask for each row whether it is taken, and under which name."""
    taken = []
    for number, each in enumerate(proposals, 1):
        described = ", ".join(
            part
            for part in (str(each.row.address), str(each.row.mac or ""), what(each.device))
            if part
        )
        note(f"{number} of {len(proposals)}: {described}")
        name = _name_for(each.cells["name"])
        if name is not None:
            taken.append({**each.cells, "name": name})
    return taken


_YES, _NO = ("y", "yes"), ("-", "n", "no")
_QUESTIONS = ("?", "h", "help", "q", "quit")


def _name_for(proposed: str) -> str | None:
    """The name under which a row is taken, None for a row that is left out.

    What people answer to other programs is no name of a device.
    """
    while True:
        said = click.prompt(
            "  Enter: take it under this name; or another name; -: leave it out",
            default=proposed,
            err=True,
        ).strip()
        if said.lower() in _YES:
            return proposed
        if said.lower() in _NO:
            return None
        if said.lower() not in _QUESTIONS:
            return str(said)
        note("  a name, Enter, or a hyphen; Ctrl-C ends this, and nothing is written")


def _edited(rows: Sequence[Cells]) -> Sequence[Cells]:
    """Have rows edited as CSV; as they were, when the editor is left without saving."""
    text = csv_line(COLUMNS)
    text += "".join(csv_line([cells.get(name, "") for name in COLUMNS]) for cells in rows)
    while True:
        saved = click.edit(text, extension=".csv")
        if saved is None:
            return rows
        lines = lines_in(saved)
        try:
            heading, *rest = list(lines_of(lines, *delimiter_in(lines))) or [TableLine(1, [])]
        except BrokenLine as error:
            note(f"what was saved {error}")
            text = saved
            continue
        names = [cell.strip().lower() for cell in heading.cells]
        return [
            {name: cell.strip() for name, cell in zip(names, line.cells, strict=False) if cell}
            for line in rest
        ]
