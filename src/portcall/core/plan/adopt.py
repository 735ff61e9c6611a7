"""Taking a device that asks and is not planned into the plan, by what the engineer answers."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass

from portcall.core.address import Mac
from portcall.core.plan.editing import PlanText
from portcall.core.plan.rows import Plan, PlannedDevice
from portcall.core.trouble import BadInput


@dataclass(frozen=True, slots=True)
class Adoption:
    """Which row a device becomes, and the octets that the plan's file should have then."""

    name: str
    data: bytes


def open_rows(plan: Plan, says: str = "", maker: str | None = None) -> tuple[PlannedDevice, ...]:
    """The rows that a device can become, those nobody is recognised by yet, the likeliest first.

    ``says`` is what the device says of itself, ``maker`` whose MAC it has. Rows of which neither
    tells anything are in the order of the plan, in which devices are mostly switched on.
    """
    said = says.casefold()
    rows = [row for row in plan if not row.is_served]

    def unlikeliness(row: PlannedDevice) -> tuple[bool, bool]:
        planned = row.expected.maker.casefold()
        name = re.escape(row.name.casefold())
        called = re.search(rf"(?<!\w){name}(?!\w)", said) is not None
        return not called, not maker or planned != maker.casefold()

    return tuple(sorted(rows, key=unlikeliness))


def adopt(
    answer: str, mac: Mac, rows: Sequence[PlannedDevice], plan: Plan, data: bytes
) -> Adoption | None:
    """Read an answer: a row's number or name, a new NAME ADDRESS, or nothing for "nobody".

    ``rows`` are those that were offered, numbered from 1; ``data`` is the plan's file. Whether the
    new plan keeps all rules is checked by who reads it. Raises BadInput.
    """
    words = answer.split()
    if not words:
        return None
    if len(words) == 1:
        row = _row(words[0], rows, plan)
        return Adoption(row.name, PlanText(data).with_cells(row.line, {"mac": str(mac)}))
    if len(words) != 2:
        raise BadInput(
            f"{answer.strip()}: answer with a row's number or name, a new NAME ADDRESS, or nothing"
        )
    name, address = words
    known = plan.by_name(name)
    if known is not None:
        raise BadInput(f"{name}: is in the plan, at {known.address}", "type its name alone")
    address, _, mask = address.partition("/")
    cells = {"name": name, "mac": str(mac), "address": address}
    if mask:
        cells["mask"] = mask
    return Adoption(name, PlanText(data).with_rows([cells]))


def _row(word: str, rows: Sequence[PlannedDevice], plan: Plan) -> PlannedDevice:
    if word.isdecimal():
        if not 1 <= int(word) <= len(rows):
            raise BadInput(f"{word}: there are rows 1 to {len(rows)}" if rows else _NO_ROW)
        # By its name: the file may have been edited since the rows were shown, and lines moved.
        word = rows[int(word) - 1].name
    named = plan.by_name(word)
    if named is None:
        raise BadInput(f"{word}: is no row of the plan", "a new one needs NAME ADDRESS")
    if named.is_served:
        has = named.mac or "a circuit"
        raise BadInput(
            f"{named.name}: has {has} in the plan", "correct the plan, or choose another row"
        )
    return named


_NO_ROW = "no row of the plan is without a MAC; type a new NAME ADDRESS, or nothing"
