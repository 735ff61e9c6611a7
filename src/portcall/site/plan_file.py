"""``plan.csv``: read whole, and changed so that all else in it stays as it is."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from portcall.core.address import Mac
from portcall.core.plan.adopt import adopt
from portcall.core.plan.changing import Change, Edit, changes
from portcall.core.plan.reading import parse_plan
from portcall.core.plan.rows import Plan, PlannedDevice, Subnet
from portcall.core.trouble import BadInput, NotPossibleHere
from portcall.site.files import open_to_read, read_bounded, write_whole
from portcall.site.logbook.plan_changes import record_changes
from portcall.site.turns import alone_in

PLAN_FILE = "plan.csv"

_PATIENCE = 5.0
"""Seconds; a change of the plan takes a fraction of one."""


_LARGEST = 8 * 1024 * 1024
"""Octets; a plan of 10,000 rows has one of them."""


def read_plan(path: Path, subnets: Sequence[Subnet], named: bool = False) -> Plan:
    """A plan from a file, with the site's masks; ``named`` is one that the person typed.

    Raises PlanError, BadInput or NotPossibleHere.
    """
    if named:
        return parse_plan(read_bounded(path, _LARGEST, "plan"), path.name, subnets)
    return parse_plan(_read(path), path.name, subnets)


def _read(path: Path) -> bytes:
    try:
        with open_to_read(path) as file:
            data = file.read(_LARGEST + 1)
    except OSError as error:
        raise NotPossibleHere(f"{path}: cannot be read: {error.strerror}") from None
    if len(data) > _LARGEST:
        raise BadInput(f"{path}: is larger than any plan, {_LARGEST:,} octets")
    return data


def change_plan(
    path: Path, subnets: Sequence[Subnet], edit: Edit, dry_run: bool = False
) -> tuple[Change, ...]:
    """Change a plan's file, or make one, and give what that changed; the new text is sound.

    What is overwritten is recorded before. With ``dry_run`` nothing is written. Raises BadInput,
    NotPossibleHere, OSError; nothing is changed then.
    """
    with alone_in(path.parent, _PATIENCE):
        data = _read(path) if path.exists() else b""
        before = parse_plan(data, path.name, subnets) if data else Plan()
        edited = edit(before, data)
        if edited == data:
            return ()
        changed = changes(before, parse_plan(edited, f"{path.name} as it would be,", subnets))
        if not dry_run:
            record_changes(path.parent, changed)
            write_whole(path, edited)
        return changed


def take_into(
    path: Path, answer: str, mac: Mac, rows: Sequence[PlannedDevice], subnets: Sequence[Subnet]
) -> str | None:
    """Write into a plan which of some rows a device is, or a new row for it (``adopt``).

    Gives the row's name, None for "nobody". Raises BadInput, NotPossibleHere, OSError.
    """
    name: str | None = None

    def edit(plan: Plan, data: bytes) -> bytes:
        nonlocal name
        adoption = adopt(answer, mac, rows, plan, data)
        name = adoption.name if adoption else None
        return adoption.data if adoption else data

    change_plan(path, subnets, edit)
    return name
