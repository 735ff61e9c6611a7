"""Lines of a logbook's files, read as entries: those of a workstation, and those of the records
that commands read without the logbook (settings, assignments, changes of the plan).
"""

from __future__ import annotations

from datetime import timedelta
from hashlib import sha256
from typing import Any

from portcall.core.counted import counted
from portcall.core.document import Part, a_moment, a_number, a_text
from portcall.core.printable import printable
from portcall.core.record.entry import Entry, Kind, read_entry
from portcall.core.record.planned import BEGUN, BY_HAND, TAKEN_BACK
from portcall.site.logbook import assigned, plan_changes, settings
from portcall.site.logbook.folder import RECORDS, Source
from portcall.site.logbook.who import Who
from portcall.site.logbook.writing import AS_IN, COPIED, HOLDS

KINDS = {
    settings.FILE: Kind.SETTING,
    assigned.FILE: Kind.ASSIGNED,
    plan_changes.FILE: Kind.PLAN,
}
"""Records that are written for themselves, and what their lines are about."""
assert set(KINDS) == set(RECORDS)


def entry_of(source: Source, line: bytes, contents: object) -> Entry | None:
    """An entry of a line; None where it is none that this version reads."""
    if not source.record:
        return read_entry(contents)
    kind = KINDS[source.record]
    said = Part(contents)
    at, who = said.get("at", a_moment), said.part("who")
    if at is None:
        return None
    row = said.part("is") or said
    return Entry(
        sha256(source.record.encode() + b"\0" + line).hexdigest()[:32],
        at,
        kind,
        **{key: who.get(key, a_text, "") for key in Who._fields},
        adapter=said.get("adapter", a_text, ""),
        name=said.get("name", a_text, ""),
        mac=row.get("mac", a_text, ""),
        address=row.get("address", a_text, ""),
        summary=_in_short(kind, said),
        offset=timedelta(0),
        body=said.without("n", "before", "at", "who", "adapter", "boot", "uptime"),
        boot=said.get("boot", a_text, ""),
        uptime=said.get("uptime", a_number, 0.0),
        misdated=False,
    )


def holds_of(contents: Any) -> str:
    """The digest of what an entry holds whose own line does not have it; "" where it has."""
    said = Part(contents)
    return said.get(HOLDS, a_text, "") if said.get(AS_IN, int) is not None else ""


def is_copied(contents: Any) -> bool:
    """Whether an entry stands where it was copied to, and not among those of its time."""
    return COPIED in contents


def _in_short(kind: Kind, said: Part) -> str:
    """A line of another record in a few words."""
    if kind is Kind.PLAN:
        return _of_the_plan(said)
    keys: tuple[str, ...] = ("event", "protocol", "address")
    if kind is Kind.SETTING:
        keys = ("step", "by", "settings" if said.get("settings", a_text) else "address", "because")
    read = said.part("read") if kind is Kind.SETTING else Part(None)
    by_hand = (f"{key} {read.get(key, a_text, '')}" for key in read)
    told = (said.get(key, a_text, "") for key in keys)
    return ", ".join(printable(each) for each in (*told, *by_hand) if each)


def _of_the_plan(said: Part) -> str:
    if said.has_list(BEGUN):
        return f"the whole plan, {counted(len(list(said.parts(BEGUN))), 'row')}"
    if said.get("step", a_text) == TAKEN_BACK:
        return "the plan is as it was before the last change: not done, or taken back"
    if said.has_list(plan_changes.KEPT):
        return "left as it is here, though others changed it"
    what = "changed" if said.part("was") and said.part("is") else None
    told = what or ("removed" if said.part("was") else "added")
    return f"{told} by hand" if said.get("by", a_text) == BY_HAND else told
