"""How rows of the plan are shown: as a table, as JSON, and what is said of their columns."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence

from rich.text import Text

from portcall.cli.say import note
from portcall.cli.table import Columns, cell, left_out_sentence, print_rows
from portcall.core.plan.columns import extra_columns, nearly_ours
from portcall.core.plan.rows import PlannedDevice

_SHOWN = (
    *("name", "part", "mac", "address", "gateway", "group", "kind", "place"),
    *("maker", "product", "serial", "firmware", "note"),
)
_DROPS = (
    *("part", "gateway", "kind", "place", "group"),
    *("maker", "product", "note", "firmware", "serial"),
)


def plan_columns() -> Columns:
    """The columns of a plan in a terminal."""
    return Columns(*_SHOWN, drops=_DROPS, shrinks="note")


def print_plan(rows: Sequence[PlannedDevice], wide: bool) -> None:
    """Print rows, and say for which columns there was no room."""
    left_out = print_rows(plan_columns(), rows, plan_cells, wide=wide)
    if left_out:
        note(left_out_sentence(left_out))


def plan_cells(row: PlannedDevice) -> Sequence[Text]:
    """The cells of a row."""
    expected = row.expected
    return (
        cell(row.name, "bold"),
        cell(f"{row.part} of {row.of}" if row.part else None),
        cell(row.mac),
        cell(None if row.has_no_address else row.interface),
        cell(row.gateway),
        cell(row.group),
        cell(row.kind),
        cell(row.place),
        cell(expected.maker),
        cell(expected.product),
        cell(expected.serial),
        cell(expected.firmware),
        cell(row.note),
    )


def row_document(row: PlannedDevice) -> dict[str, object]:
    """A row as ``plan show --json`` has it."""
    expected = row.expected.asked
    return {
        "name": row.name,
        "mac": str(row.mac) if row.mac else None,
        "of": row.of or None,
        "part": str(row.part) if row.part else None,
        "address": None if row.has_no_address else str(row.address),
        "prefix": None if row.has_no_address else row.interface.network.prefixlen,
        "gateway": str(row.gateway) if row.gateway else None,
        "group": row.group or None,
        "kind": row.kind or None,
        "place": row.place or None,
        "maker": expected.get("maker"),
        "product": expected.get("product"),
        "serial": expected.get("serial"),
        "firmware": expected.get("firmware"),
        "note": row.note or None,
        "extra": dict(row.extra),
    }


def extra_columns_sentences(columns: Iterable[str]) -> Iterator[str]:
    """A sentence about the columns of a file that have no meaning here."""
    names = extra_columns(columns)
    if names:
        yield f"columns of its own, kept as they are: {', '.join(names)}"
    for name, ours in nearly_ours(names).items():
        yield f"the column {name} has no meaning here; if {ours} is meant, correct the heading"
