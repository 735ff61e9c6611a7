"""Which entries the state of a site rests on: the newest of each key.

The fold of ``standing`` takes something out of an entry only by one of its keys, and a newer entry
of the same key takes its place whole. So a state out of the newest entries of all keys is the one
out of all entries, however many there are.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

from portcall.core.address import UNSPECIFIED
from portcall.core.document import Part, a_text, a_truth
from portcall.core.record.entry import Entry, Kind
from portcall.core.record.standing import is_unread
from portcall.core.setting.had import asks_again

Key = tuple[str, ...]

OF_BODIES = (Kind.LOOK, Kind.VERIFICATION)
"""Entries whose keys follow from what they hold alone."""

NO_KEYS = (Kind.NOTE, Kind.WATCH, Kind.MATCH, Kind.REPORT)


def keys_of(entry: Entry, contents: Mapping[str, Any]) -> Iterator[Key]:
    """The keys of an entry. ``contents`` is what it holds."""
    body = Part(contents)
    if entry.kind in OF_BODIES:
        yield ("look",)
        for device in body.parts("devices"):
            yield "seen", device.get("mac", a_text, "")
    if entry.kind is Kind.VERIFICATION:
        yield from _judged(body)
    elif entry.kind is Kind.PLAN:
        yield "plan", entry.uid
    elif entry.kind not in (*OF_BODIES, *NO_KEYS):
        told = _done(entry, body)
        if told:
            yield "did", entry.kind.value, told, entry.name, entry.mac


def _judged(body: Part) -> Iterator[Key]:
    rows = list(body.parts("rows"))
    whole = body.get("whole_plan", a_truth)
    if whole:
        yield ("whole",)
    elif whole is None:
        # One of before does not say so: it is whole for a plan that has not more rows.
        yield "rows", str(len(rows))
    for judged in rows:
        about = (judged.get("name", a_text, ""), judged.get("mac", a_text, ""))
        at = judged.get("address", a_text, "")
        if judged.get("verdict", a_text, "") != "not judged":
            yield "judged", *about, at
        elif is_unread(judged):
            yield "unread", *about, at


def _done(entry: Entry, body: Part) -> str:
    """What was done, as far as the state rests on it; "" for nothing of that."""
    step, verdict, event = (body.get(key, a_text, "") for key in ("step", "verdict", "event"))
    if entry.kind is Kind.SETTING and step == "done":
        if entry.address == str(UNSPECIFIED):
            return "taken away"
        return "asks again" if asks_again(body) else "kept"
    if entry.kind is Kind.SETTING:
        return "not done" if step == "not done" else ""
    if entry.kind is Kind.ASSIGNED:
        return event
    return verdict
