"""Records with files of their own, read as entries: settings, assignments, plan changes.

Each of their lines is an entry whose identity follows from what it says.
"""

from __future__ import annotations

from datetime import timedelta
from hashlib import sha256
from pathlib import Path
from typing import Any

from portcall.core.document import Part, a_moment, a_text, parsed
from portcall.core.printable import printable
from portcall.core.record.entry import Entry, Kind
from portcall.site.logbook import assigned, plan_changes, settings
from portcall.site.logbook.who import Who

_LONGEST_LINE = 1 << 20

OTHERS = {
    settings.FILE: Kind.SETTING,
    assigned.FILE: Kind.ASSIGNED,
    plan_changes.FILE: Kind.PLAN,
}
"""Records that are written for themselves, and what their lines are about."""


def entry_of(file: str, line: bytes, contents: object, kind: Kind) -> Entry | None:
    """An entry of a line that was written for itself; None where it cannot be read."""
    said = Part(contents)
    at, who = said.get("at", a_moment), said.part("who")
    if at is None:
        return None
    row = said.part("is") or said
    return Entry(
        sha256(file.encode() + b"\0" + line).hexdigest()[:32],
        at,
        kind,
        **{key: who.get(key, a_text, "") for key in Who._fields},
        adapter=said.get("adapter", a_text, ""),
        name=said.get("name", a_text, ""),
        mac=row.get("mac", a_text, ""),
        address=row.get("address", a_text, ""),
        summary=_in_short(kind, said),
        offset=timedelta(0),
        body=said.without("at", "who", "adapter"),
    )


def _in_short(kind: Kind, said: Part) -> str:
    """A line of another record in a few words."""
    if kind is Kind.PLAN:
        return "changed" if said.part("was") and said.part("is") else _one_sided(said)
    keys: tuple[str, ...] = ("event", "protocol", "address")
    if kind is Kind.SETTING:
        keys = ("step", "by", "settings" if said.get("settings", a_text) else "address", "because")
    read = said.part("read") if kind is Kind.SETTING else Part(None)
    by_hand = (f"{key} {read.get(key, a_text, '')}" for key in read)
    told = (said.get(key, a_text, "") for key in keys)
    return ", ".join(printable(each) for each in (*told, *by_hand) if each)


def _one_sided(said: Part) -> str:
    return "removed" if said.part("was") else "added"


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
