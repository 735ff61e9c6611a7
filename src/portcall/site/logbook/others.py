"""Records with files of their own, read as entries: settings, assignments, plan changes.

Each of their lines is an entry whose identity follows from what it says.
"""

from __future__ import annotations

import json
from collections.abc import Mapping
from datetime import UTC, datetime, timedelta
from hashlib import sha256
from pathlib import Path
from typing import Any

from portcall.core.printable import printable
from portcall.core.record.entry import Entry, Kind
from portcall.site.logbook import assigned, plan_changes, settings
from portcall.site.logbook.who import Who

_LONGEST_WORDS = 400
_LONGEST_LINE = 1 << 20

OTHERS = {
    settings.FILE: Kind.SETTING,
    assigned.FILE: Kind.ASSIGNED,
    plan_changes.FILE: Kind.PLAN,
}
"""Records that are written for themselves, and what their lines are about."""


def entry_of(file: str, line: bytes, said: Any, kind: Kind) -> Entry | None:
    """An entry of a line that was written for itself; None where it cannot be read."""
    if not isinstance(said, dict):
        return None
    try:
        at = datetime.fromisoformat(str(said["at"]))
    except (KeyError, ValueError):
        return None
    now = said.get("is") if isinstance(said.get("is"), dict) else said
    assert isinstance(now, dict)
    body = {key: value for key, value in said.items() if key not in ("at", "who", "adapter")}
    by = said.get("who") if isinstance(said.get("who"), dict) else {}
    assert isinstance(by, dict)
    return Entry(
        sha256(file.encode() + b"\0" + line).hexdigest()[:32],
        at if at.tzinfo else at.replace(tzinfo=UTC),
        kind,
        **{key: printable(str(by.get(key) or ""), _LONGEST_WORDS) for key in Who._fields},
        adapter=printable(str(said.get("adapter") or "")),
        name=printable(str(said.get("name") or "")),
        mac=printable(str(now.get("mac") or "")),
        address=printable(str(now.get("address") or "")),
        summary=_in_short(kind, said),
        offset=timedelta(0),
        body=body,
    )


def _in_short(kind: Kind, said: Mapping[str, Any]) -> str:
    """A line of another record in a few words."""
    if kind is Kind.SETTING:
        read = said.get("read")
        by_hand = [f"{k} {v}" for k, v in read.items()] if isinstance(read, dict) else []
        parts: tuple[Any, ...] = (said.get("step"), said.get("by"), said.get("settings"), *by_hand)
    elif kind is Kind.ASSIGNED:
        parts = (said.get("event"), said.get("protocol"), said.get("address"))
    else:
        parts = (
            "added" if not said.get("was") else "removed" if not said.get("is") else "changed",
        )
    return ", ".join(printable(str(part)) for part in parts if part)


def beginning_of(path: Path) -> str:
    """How a record begins: a digest of its first line."""
    try:
        with open(path, "rb") as file:
            return sha256(file.readline(_LONGEST_LINE)).hexdigest()
    except FileNotFoundError:
        return ""


def lines_from(path: Path, start: int) -> list[tuple[bytes, Any]]:
    """The whole lines of a record from an octet on, each with what it says; None where nothing."""
    try:
        with open(path, "rb") as file:
            file.seek(start)
            data = file.read()
    except FileNotFoundError:
        return []
    whole, _, _ = data.rpartition(b"\n")
    lines = whole.split(b"\n") if whole else []
    return [(line, parsed(line)) for line in lines]


def parsed(line: bytes) -> Any:
    """The contents of a line of JSON; None where it cannot be read."""
    try:
        return json.loads(line)
    except (ValueError, RecursionError):
        return None
