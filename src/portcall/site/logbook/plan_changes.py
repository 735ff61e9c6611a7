"""The record of what was changed in the plan: ``plan-changes.jsonl``, one line a row.

It is written before the plan's file is, with the digests of the plan before and after: what was in
a cell that is overwritten can be read here, and the plan itself tells whether a change that was
announced was done. The plan is kept as it was last known (``logbook/plans``), so that what somebody
changed by hand is seen when it is next read, and recorded as such.
"""

from __future__ import annotations

import os
from collections.abc import Iterable, Sequence
from contextlib import suppress
from dataclasses import dataclass
from hashlib import sha256
from pathlib import Path
from uuid import uuid4

from portcall.core.address import Mac
from portcall.core.document import a_mac, a_text
from portcall.core.plan.changing import Change, cells_of
from portcall.core.plan.rows import Plan
from portcall.core.record.planned import BEGUN, BY_HAND, TAKEN_BACK
from portcall.core.trouble import NotPossibleHere
from portcall.site.files import make_folder, write_whole
from portcall.site.logbook.entries import add_entries, entries
from portcall.site.logbook.folder import FOLDER
from portcall.site.logbook.who import who
from portcall.system import as_caller

FILE = "plan-changes.jsonl"
KEPT = "kept_against"
"""The key of the entries of others whose values somebody decided against."""

_PLANS = "plans"
_MOST_KEPT = 20
_USUALLY_ENOUGH = 128 * 1024


@dataclass(frozen=True, slots=True)
class LastKnown:
    """The plan as the record knows it last: its digest; and before its last change, and which that
    was, both "" where the last line tells of none.
    """

    digest: str
    before: str = ""
    change: str = ""


def digest_of(data: bytes) -> str:
    """The digest of a plan's file."""
    return sha256(data).hexdigest()


def macs_before(folder: Path, name: str, mac: Mac) -> tuple[Mac, ...]:
    """The MACs that a row had before it got the one that it has, the latest last."""
    found: list[Mac] = []
    for entry in entries(folder / FILE):
        row = entry.part("is")
        was, now = entry.part("was").get("mac", a_mac), row.get("mac", a_mac)
        is_it = row.get("name", a_text, "").casefold() == name.casefold()
        if is_it and was is not None and now == mac != was:
            found.append(was)
    return tuple(found)


def record_changes(
    folder: Path, changes: Iterable[Change], was: bytes, now: bytes, by_hand: bool = False
) -> None:
    """Write down what is about to be changed, or ``by_hand`` was. Raises NotPossibleHere.

    ``was`` and ``now`` are the plan's file before and after.
    """
    about = {"change": uuid4().hex[:12], **_digests(was, now)}
    about |= {"by": BY_HAND} if by_hand else {}
    _add(
        folder,
        [
            {
                "name": change.name,
                "was": cells_of(change.was) or None,
                "is": cells_of(change.now) or None,
                **about,
            }
            for change in changes
        ],
    )
    if was:
        _keep(folder, was)
    _keep(folder, now)


def record_beginning(folder: Path, plan: Plan, now: bytes) -> None:
    """Write down the whole of a plan that nothing is known of. Raises NotPossibleHere."""
    _add(folder, [{BEGUN: [cells_of(row) for row in plan.rows], **_digests(b"", now)}])
    _keep(folder, now)


def record_taken_back(folder: Path, change: str, now: bytes) -> None:
    """Write down that the plan is as it was before a change. Raises NotPossibleHere."""
    _add(folder, [{"step": TAKEN_BACK, "change": change, "plan": digest_of(now)}])


def record_kept(folder: Path, entries_of_others: Sequence[str]) -> None:
    """Write down that what others changed by these entries is not taken. Raises NotPossibleHere."""
    _add(folder, [{KEPT: list(entries_of_others)}])


def last_known(folder: Path) -> LastKnown | None:
    """The plan as it was recorded last; None where no line tells its digest."""
    path = folder / FILE
    for most in (_USUALLY_ENOUGH, None):
        read = entries(path) if most is None else entries(path, most)
        for entry in reversed(list(read)):
            digest = entry.get("plan", a_text)
            if digest and entry.get("step", a_text) == TAKEN_BACK:
                return LastKnown(digest)
            if digest:
                before, change = (entry.get(key, a_text, "") for key in ("plan_was", "change"))
                return LastKnown(digest, before, change)
    return None


def last_change(folder: Path) -> LastKnown | None:
    """The last change that was done: the digests of the plan after and before it.

    None where there is none that is not taken back.
    """
    lines = list(entries(folder / FILE))
    undone = {e.get("change", a_text) for e in lines if e.get("step", a_text) == TAKEN_BACK}
    for entry in reversed(lines):
        change, step = entry.get("change", a_text), entry.get("step", a_text)
        if change and step is None and change not in undone:
            after, before = (entry.get(key, a_text, "") for key in ("plan", "plan_was"))
            return LastKnown(after, before, change)
    return None


def kept_plan(folder: Path, digest: str) -> bytes | None:
    """The plan's file of a digest, as far as it is kept; None where it is not, or not as it was."""
    try:
        data = (folder / FOLDER / _PLANS / f"{digest}.csv").read_bytes()
    except OSError:
        return None
    return data if digest_of(data) == digest else None


def _digests(was: bytes, now: bytes) -> dict[str, str]:
    return {**({"plan_was": digest_of(was)} if was else {}), "plan": digest_of(now)}


def _add(folder: Path, lines: list[dict[str, object]]) -> None:
    path = folder / FILE
    try:
        add_entries(path, *({**line, "who": who()} for line in lines))
    except OSError as error:
        raise NotPossibleHere(
            f"{path}: what is changed in the plan is written down first, and cannot be: "
            f"{error.strerror}",
            "nothing was changed",
        ) from None


def _keep(folder: Path, data: bytes) -> None:
    """Keep a plan's file, and the last few of those before it; a full disk keeps none."""
    kept = folder / FOLDER / _PLANS
    with suppress(OSError):
        path = kept / f"{digest_of(data)}.csv"
        make_folder(kept)
        if not path.exists():
            write_whole(path, data)
        else:
            with as_caller(path):
                os.utime(path)
        by_age = sorted(kept.glob("*.csv"), key=lambda each: each.stat().st_mtime_ns)
        for old in by_age[:-_MOST_KEPT]:
            with as_caller(old):
                old.unlink()
