"""``plan.csv``: read whole, and changed so that all else in it stays as it is."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import suppress
from pathlib import Path

from portcall.core.address import Mac
from portcall.core.plan.adopt import adopt
from portcall.core.plan.changing import Change, Edit, changes
from portcall.core.plan.reading import parse_plan
from portcall.core.plan.rows import Plan, PlannedDevice, Subnet
from portcall.core.trouble import BadInput, NotPossibleHere, Trouble
from portcall.site.files import open_to_read, read_bounded, write_whole
from portcall.site.logbook.folder import FOLDER
from portcall.site.logbook.plan_changes import (
    digest_of,
    kept_plan,
    last_change,
    last_known,
    record_beginning,
    record_changes,
    record_taken_back,
)
from portcall.site.turns import alone_in

PLAN_FILE = "plan.csv"

_PATIENCE = 30.0
"""Seconds; a change of the plan takes a fraction of one, and on a busy computer several wait."""


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
        if data and not dry_run:
            _record_since(path.parent, path.name, data, subnets)
        changed = changes(before, parse_plan(edited, f"{path.name} as it would be,", subnets))
        if not dry_run:
            record_changes(path.parent, changed, data, edited)
            write_whole(path, edited)
        return changed


def notice(path: Path, subnets: Sequence[Subnet]) -> None:
    """Record what became of a plan since it was recorded last, where a logbook is kept beside it.

    Somebody may have changed it by hand; and a change that was written down before it was done may
    not have been done. Where another command is at it, or nothing can be written, the next line
    finds the same.
    """
    folder = path.parent
    if not (folder / FOLDER).is_dir() or not path.is_file():
        return
    known = last_known(folder)
    with suppress(Trouble, OSError):
        if known is not None and known.digest == digest_of(_read(path)):
            return
        with alone_in(folder, 0.0):
            _record_since(folder, path.name, _read(path), subnets)


def _record_since(folder: Path, name: str, data: bytes, subnets: Sequence[Subnet]) -> None:
    """Record what became of a plan since it was recorded last; ``data`` is its file."""
    known, now = last_known(folder), digest_of(data)
    if known is not None and now == known.digest:
        return
    plan = parse_plan(data, name, subnets)
    if known is not None and known.change and now == known.before:
        record_taken_back(folder, known.change, data)
        return
    before = kept_plan(folder, known.digest) if known is not None else None
    changed = changes(parse_plan(before, name, subnets), plan) if before is not None else ()
    if changed and before is not None:
        record_changes(folder, changed, before, data, by_hand=True)
    else:
        record_beginning(folder, plan, data)


def undo_last(path: Path, subnets: Sequence[Subnet], dry_run: bool = False) -> tuple[Change, ...]:
    """Have a plan's file as it was before its last change, octet for octet; what that changed.

    Raises BadInput where it was changed since, or where how it was is not kept; NotPossibleHere,
    OSError.
    """
    folder = path.parent
    notice(path, subnets)
    with alone_in(folder, _PATIENCE):
        last, data = last_change(folder), _read(path)
        if last is None:
            raise BadInput("no change of the plan is recorded that could be taken back")
        before = kept_plan(folder, last.before) if last.before else None
        if last.digest != digest_of(data):
            raise BadInput(
                f"{path.name}: is not as its last change left it, so that cannot be taken back",
                "portcall plan show, and portcall logbook show --kind plan",
            )
        if before is None:
            raise BadInput(
                f"{path.name}: how it was before its last change is not kept",
                "portcall logbook show --kind plan tells what was in its cells",
            )
        changed = changes(
            parse_plan(data, path.name, subnets), parse_plan(before, path.name, subnets)
        )
        if not dry_run:
            write_whole(path, before)
            record_taken_back(folder, last.change, before)
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
