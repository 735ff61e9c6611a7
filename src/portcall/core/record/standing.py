"""How far a site is, from its logbook: each planned device with its last known state."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from datetime import datetime
from enum import StrEnum
from typing import Any

from portcall.core.address import UNSPECIFIED
from portcall.core.plan.rows import Plan, PlannedDevice
from portcall.core.printable import printable
from portcall.core.record.entry import Entry, Kind, documents
from portcall.core.setting.had import asks_again


class State(StrEnum):
    """What was last known of a planned device; the names are part of ``status --json``."""

    NEVER_SEEN = "never seen"
    SEEN = "seen"
    ASKED = "asked"
    GIVEN = "given"
    KEPT = "kept"
    PROVED = "proved by power cycle"
    RIGHT = "verified right"
    WRONG = "verified wrong"


_LONGEST = 400
_LINE = ": portcall "
"""Before the line to type, at the end of a finding."""

_ADVISED = ("why", "move", "assign", "match", "verify")
"""What a verification may advise for a row."""

_OPTIONS = re.compile(r"( --?[a-z-]+( [\w.-]+)?)*")


@dataclass(slots=True)
class RowStanding:
    """A row: its state, since when, and what supports it.

    ``verified`` is when it was judged last, ``kept`` when it was told to hold its address, and
    ``proved`` when a power cycle showed that it does; None where that never was.
    """

    row: PlannedDevice
    state: State = State.NEVER_SEEN
    since: datetime | None = None
    detail: str = ""
    verified: datetime | None = None
    kept: datetime | None = None
    proved: datetime | None = None
    is_right: bool = False
    advised: str = ""
    """The line that its last verification said to type."""
    source: str = ""
    """The entry that its state follows from."""
    judged_by: str = ""
    """The entry that judged it last."""

    def now(self, state: State, entry: Entry, detail: str = "") -> None:
        """A newer state, as an entry has it."""
        self.state, self.since, self.detail, self.advised = state, entry.at, detail, ""
        self.source = entry.uid

    @property
    def next_line(self) -> str:
        """What to type next for it, or nothing."""
        name = self.row.name
        if self.is_right:
            return ""
        if self.row.mac is None:
            return f"portcall plan set {name} mac=MAC"
        if self.advised:
            return self.advised
        if self.state in (State.NEVER_SEEN, State.WRONG):
            return f"portcall why {name}"
        return f"portcall verify {name}"


@dataclass(frozen=True, slots=True)
class Standing:
    """Every row, and how many of each group are verified right."""

    rows: tuple[RowStanding, ...]
    groups: Mapping[str, tuple[int, int]] = field(default_factory=dict)

    @property
    def right(self) -> int:
        """How many rows are verified right."""
        return sum(each.is_right for each in self.rows)


def standing(plan: Plan, entries: Iterable[tuple[Entry, Mapping[str, Any]]]) -> Standing:
    """Fold entries, the oldest first, into the rows of the plan."""
    rows = {row.name: RowStanding(row) for row in plan}
    by_mac = {str(row.mac): rows[row.name] for row in plan if row.mac is not None}
    for entry, body in entries:
        if entry.kind is Kind.LOOK:
            _seen(entry, body, by_mac)
        elif entry.kind is Kind.VERIFICATION:
            _seen(entry, body, by_mac)
            _verified(entry, body, rows)
        else:
            _done(entry, body, rows.get(entry.name) or by_mac.get(entry.mac))
    groups: dict[str, tuple[int, int]] = {}
    for each in rows.values():
        right, count = groups.get(each.row.group, (0, 0))
        groups[each.row.group] = (right + each.is_right, count + 1)
    return Standing(tuple(rows.values()), groups)


def _seen(entry: Entry, body: Mapping[str, Any], by_mac: Mapping[str, RowStanding]) -> None:
    for device in documents(body.get("devices")):
        known = by_mac.get(str(device.get("mac")))
        if known is None:
            continue
        addresses = device.get("addresses")
        at = printable(", ".join(map(str, addresses))) if isinstance(addresses, list) else ""
        if known.state not in (State.NEVER_SEEN, State.SEEN, State.ASKED):
            continue
        asks = device.get("asks")
        if not at and isinstance(asks, list) and asks:
            known.now(State.ASKED, entry, f"for an address by {printable(str(asks[0]))}")
        else:
            known.now(State.SEEN, entry, f"at {at}" if at else "without an address")


def _verified(entry: Entry, body: Mapping[str, Any], rows: Mapping[str, RowStanding]) -> None:
    for judged in documents(body.get("rows")):
        known = rows.get(str(judged.get("name")))
        if known is None or judged.get("verdict") == "not judged":
            continue
        row = known.row
        told = (judged.get("mac"), judged.get("address"))
        if told != (str(row.mac) if row.mac else None, str(row.address)):
            continue  # It is planned otherwise since: what was right then says nothing now.
        known.verified, known.judged_by = entry.at, entry.uid
        known.is_right = judged.get("verdict") == "right"
        findings = judged.get("findings")
        first = (
            printable(str(findings[0]), _LONGEST) if isinstance(findings, list) and findings else ""
        )
        said, _, line = first.rpartition(_LINE)
        if not _is_line_for(row.name, line):
            said, line = first, ""
        verdict = printable(str(judged.get("verdict")))
        detail = "" if known.is_right else f"{verdict}: {said}".rstrip(": ")
        known.now(State.RIGHT if known.is_right else State.WRONG, entry, detail)
        known.advised = f"portcall {line}" if line else ""


def _is_line_for(name: str, line: str) -> bool:
    """Whether what stands at the end of a finding is a line that is advised for this row.

    Entries come from other people's computers, too, and findings quote what devices say.
    """
    verb = next((each for each in _ADVISED if line.startswith(f"{each} {name}")), None)
    if verb is None:
        return False
    options = line.removeprefix(f"{verb} {name}")
    return _OPTIONS.fullmatch(options) is not None


def _done(entry: Entry, body: Mapping[str, Any], known: RowStanding | None) -> None:
    """Something that this tool did to one device."""
    if known is None or entry.mac != str(known.row.mac):
        return
    if entry.kind is Kind.POWER_CYCLE and body.get("verdict") == "kept":
        known.proved = entry.at
        known.now(State.PROVED, entry, entry.address)
    elif entry.kind is Kind.SWAP and body.get("verdict") == "right":
        known.verified, known.judged_by, known.is_right = entry.at, entry.uid, True
        known.now(State.RIGHT, entry)
    elif entry.kind is Kind.ASSIGNED and body.get("event") in ("assigned", "answering"):
        known.is_right = False
        known.now(State.GIVEN, entry, entry.address)
    elif entry.kind is Kind.SETTING and body.get("step") == "done":
        known.is_right = False
        _set(entry, printable(str(body.get("settings"))), known)


def _set(entry: Entry, settings: str, known: RowStanding) -> None:
    """A device was told to hold an address; or, undoing that, to ask again, or to have none."""
    if entry.address == str(UNSPECIFIED):
        known.kept = None
        known.now(State.SEEN, entry, "without an address")
    elif asks_again(settings):
        known.kept = None
        known.now(State.GIVEN, entry, f"{settings}, and asks again")
    else:
        known.kept = entry.at
        known.now(State.KEPT, entry, entry.address)
