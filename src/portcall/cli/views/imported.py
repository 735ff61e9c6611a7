"""``plan import``: how a table was understood, before anything is written."""

from __future__ import annotations

from collections.abc import Iterator

from portcall.cli.say import note
from portcall.cli.table import Remark, Tone, left_out_sentence, print_lines, print_rows
from portcall.cli.views.plan_rows import plan_cells, plan_columns, row_document
from portcall.core.counted import counted, named
from portcall.core.plan.columns import nearly_ours
from portcall.core.plan.importing import ImportedRow, Relation, Understood
from portcall.site.spreadsheet import Table

_MOST_NAMED = 4

_WORDS = {Relation.NEW: "new", Relation.SAME: "in the plan", Relation.DIFFERS: "differs"}


def print_understood(understood: Understood, table: Table, update: bool, wide: bool) -> None:
    """Print the meaning of each heading, the ignored columns, and the resulting rows."""
    print_lines(_lines(understood, table))
    no_room = print_rows(
        plan_columns(),
        understood.rows,
        lambda each: plan_cells(each.row),
        lambda each: _difference(each, update),
        wide,
    )
    if no_room:
        note(left_out_sentence(no_room))
    counts = {
        word: sum(each.standing is standing for each in understood.rows)
        for standing, word in _WORDS.items()
    }
    said = ", ".join(f"{count} {word}" for word, count in counts.items() if count)
    note(f"{counted(len(understood.rows), 'row')}: {said}")


def _lines(understood: Understood, table: Table) -> Iterator[Remark]:
    columns = understood.columns
    where = f"sheet {table.sheet}, " if table.sheet else ""
    meant = ", ".join(
        column if words.lower() == column else f"{column} is {words}"
        for column, words in columns.headings.items()
    )
    yield Remark(f"{where}heading in line {columns.line}: {meant}")
    if columns.extra:
        yield Remark(f"kept as columns of their own: {', '.join(columns.extra)}")
    for name, ours in nearly_ours(columns.extra).items():
        yield Remark(
            f'{name} is nearly {ours}; if it is meant: --column {ours}="{name}"', Tone.TO_DO
        )
    assumed = [each.row for each in understood.rows if each.row.mask_assumed]
    if assumed:
        lengths = sorted({row.interface.network.prefixlen for row in assumed})
        masks = " or ".join(f"/{length}" for length in lengths)
        which = named([row.name for row in assumed], _MOST_NAMED)
        yield Remark(f"no mask in file or site, {masks} is assumed: {which}", Tone.TO_DO)
    if understood.passed_over:
        lines = [f"{number} ({text})" for number, text in understood.passed_over]
        yield Remark(f"no rows, one cell alone: line {named(lines, _MOST_NAMED)}")
    unseen = [
        columns.headings[name] for name, n in columns.ours.items() if n in table.hidden_columns
    ]
    if unseen:
        told = f"hidden in the sheet, and read all the same: {', '.join(unseen)}"
        yield Remark(told, Tone.TO_DO)
    if table.hidden_rows:
        hidden = counted(table.hidden_rows, "row is", "rows are")
        yield Remark(f"{hidden} hidden in the sheet, and read all the same", Tone.TO_DO)


def _difference(each: ImportedRow, update: bool) -> list[Remark]:
    if each.standing is not Relation.DIFFERS:
        return []
    told = "; ".join(
        f"{column} is {gives or 'empty'}, the plan has {has or 'none'}"
        for column, (has, gives) in each.differences.items()
    )
    return [
        Remark(told if update else f"{told}: the plan's row stays, unless --update", Tone.TO_DO)
    ]


def understood_document(understood: Understood) -> dict[str, object]:
    """The same as JSON."""
    columns = understood.columns
    return {
        "heading_line": columns.line,
        "columns": dict(columns.headings),
        "extra": list(columns.extra),
        "passed_over": [number for number, _ in understood.passed_over],
        "rows": [
            {
                **row_document(each.row),
                "standing": _WORDS[each.standing],
                "differs": {
                    column: {"plan": has or None, "file": gives or None}
                    for column, (has, gives) in each.differences.items()
                },
            }
            for each in understood.rows
        ],
    }
