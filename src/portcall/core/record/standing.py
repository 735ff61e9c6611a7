"""How far a site is, from its logbook: each planned device with its last known state."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field, fields, replace
from datetime import datetime
from enum import StrEnum
from typing import Any

from portcall.core.address import UNSPECIFIED
from portcall.core.document import Part, a_text, a_truth, an_object
from portcall.core.finding import Finding, Line, Name, Setting, values_as_json, written_by_us
from portcall.core.plan.rows import Plan, PlannedDevice
from portcall.core.record import sentences as say
from portcall.core.record.entry import Entry, Kind
from portcall.core.record.planned import TAKEN_BACK
from portcall.core.setting.had import asks_again


class DeviceState(StrEnum):
    """The last known state of a planned device; the names are part of ``status --json``."""

    NEVER_SEEN = "never seen"
    SEEN = "seen"
    ASKED = "asked"
    GIVEN = "given"
    NOT_ALL_READ = "not all read"
    KEPT = "kept"
    PROVED = "proved by power cycle"
    RIGHT = "verified right"
    WRONG = "verified wrong"


_LOST = ("asking", "elsewhere", "missing")
"""Verdicts of a power cycle after which the device does not hold its address."""
_ADVISED = ("why", "move", "assign", "match", "verify")
"""What a verification may advise for a row."""


@dataclass(slots=True)
class RowStanding:
    """A row: its state, since when, and what supports it.

    ``verified`` is when it was judged last, ``kept`` when it was told to hold its address, and
    ``proved`` when a power cycle showed that it does; None where that never was.
    """

    row: PlannedDevice
    state: DeviceState = DeviceState.NEVER_SEEN
    since: datetime | None = None
    detail: str = ""
    """What is to be known of its state, in a sentence."""
    code: str = ""
    """The code of that, where it has one."""
    values: Mapping[str, Any] = field(default_factory=dict)
    verified: datetime | None = None
    kept: datetime | None = None
    proved: datetime | None = None
    is_right: bool = False
    given: datetime | None = None
    """When it was given its address by an assignment, if nothing has shown since that it holds it.
    """
    lost: datetime | None = None
    """When a power cycle showed that it does not hold its address, if nothing was done since."""
    not_set: bool = False
    """Whether setting it did not succeed, when that was tried last."""
    advised: Line | None = None
    """The line that its last verification said to type."""
    source: str = ""
    """The entry that its state follows from."""
    judged_by: str = ""
    """The entry that judged it last."""

    def now(self, state: DeviceState, entry: Entry, told: Finding | None = None) -> None:
        """A newer state, as an entry has it."""
        self.state, self.since, self.advised, self.source = state, entry.at, None, entry.uid
        self.detail = told.sentence if told is not None else ""
        self.code = told.code if told is not None else ""
        self.values = values_as_json(told) if told is not None else {}

    @property
    def open_because(self) -> Finding | None:
        """Why it is not done although it was verified right, or None."""
        if self.lost is not None:
            return say.LOST_ITS_ADDRESS()
        if self.kept is not None or self.proved is not None:
            return None
        if self.not_set:
            return say.NOT_SET()
        return say.GIVEN_ONLY() if self.given is not None else None

    @property
    def is_done(self) -> bool:
        """Whether it is right, and nothing is known that would change that."""
        return self.is_right and not self.open_because

    @property
    def next_line(self) -> Line | None:
        """The line to type next for it, or None."""
        name = self.row.name
        if self.is_done:
            return None
        if self.is_right:
            # A device that cannot report it may hold its address, if it was set by hand.
            unable = self.not_set or self.lost is not None or self.row.has_no_address
            return Line("verify", "--power-cycle", name) if unable else Line("keep", name)
        if self.row.mac is None and not self.row.has_no_address:
            return Line("plan set", name, Setting(Name("mac"), "MAC"))
        if self.advised is not None:
            return self.advised
        if self.state in (DeviceState.NEVER_SEEN, DeviceState.WRONG):
            return Line("why", name)
        return Line("verify", name)


@dataclass(frozen=True, slots=True)
class Standing:
    """Every row, and how many of each group are verified right."""

    rows: tuple[RowStanding, ...]
    groups: Mapping[str, tuple[int, int]] = field(default_factory=dict)
    unplanned: tuple[str, ...] = ()
    """Who was on the wire in the last verification of the whole plan and is not in the plan."""

    is_looked_at: bool = True
    """Whether there was any look or verification yet."""

    @property
    def is_done(self) -> bool:
        """Whether nothing is open, of any row or beside them."""
        return all(each.is_done for each in self.rows) and not self.unplanned

    @property
    def right(self) -> int:
        """How many rows are verified right."""
        return sum(each.is_right for each in self.rows)


def standing(plan: Plan, entries: Iterable[tuple[Entry, Mapping[str, Any]]]) -> Standing:
    """Fold entries, the oldest first, into the rows of the plan."""
    rows: dict[str, RowStanding] = {row.name: RowStanding(row) for row in plan.rows}
    by_mac = {str(row.mac): rows[row.name] for row in plan if row.mac is not None}
    unplanned: tuple[str, ...] = ()
    is_looked_at = False
    before_plan: dict[str, list[RowStanding]] = {}
    for entry, contents in entries:
        body = Part(contents)
        is_looked_at = is_looked_at or entry.kind in (Kind.LOOK, Kind.VERIFICATION)
        if entry.kind is Kind.VERIFICATION and _is_whole(body, len(rows)):
            strangers = body.parts("unplanned")
            unplanned = tuple(map(_named, (e for e in strangers if _mac_of(e) not in by_mac)))
        if entry.kind is Kind.PLAN:
            _planned_otherwise(entry, body, rows, before_plan)
        elif entry.kind is Kind.LOOK:
            _seen(entry, body, by_mac)
        elif entry.kind is Kind.VERIFICATION:
            _seen(entry, body, by_mac)
            _verified(entry, body, rows)
        elif entry.kind is not Kind.NOTE:
            _done(entry, body, rows.get(entry.name) or by_mac.get(entry.mac))
    groups: dict[str, tuple[int, int]] = {}
    for each in rows.values():
        right, count = groups.get(each.row.group, (0, 0))
        groups[each.row.group] = (right + each.is_right, count + 1)
    if not is_looked_at:
        for each in rows.values():
            each.advised = None if each.row.mac is None else Line("find")
    return Standing(tuple(rows.values()), groups, unplanned, is_looked_at)


def _is_whole(body: Part, rows: int) -> bool:
    """Whether a verification was of the whole plan; those of before did not say so."""
    whole = body.get("whole_plan", a_truth)
    return whole if whole is not None else len(list(body.parts("rows"))) >= rows


def _named(device: Part) -> str:
    """A device that is not planned, by its MAC and where it is."""
    at = ", ".join(device.each("addresses", a_text))
    mac = _mac_of(device) or "a device"
    return f"{mac} at {at}" if at else mac


def _mac_of(part: Part) -> str:
    return part.get("mac", a_text, "")


_JUDGED = ("mask", "gateway", "maker", "product", "serial", "firmware")
"""Columns of the plan that a verification judges, besides who is where."""


def _planned_otherwise(
    entry: Entry, body: Part, rows: dict[str, RowStanding], before: dict[str, list[RowStanding]]
) -> None:
    """A row that was planned otherwise since it was verified is not verified.

    Where that change was not done, or is taken back, the row is what it was, unless something
    happened since.
    """
    change, known = body.get("change", a_text, ""), rows.get(entry.name)
    if body.get("step", a_text) == TAKEN_BACK:
        for each in before.pop(change, []):
            known = rows[each.row.name]
            if known.code == say.PLANNED_SINCE.code:
                for one in fields(RowStanding):
                    setattr(known, one.name, getattr(each, one.name))
        return
    was, now = body.part("was"), body.part("is")
    if known is None or not known.is_right or not (was and now):
        return
    changed = [column for column in _JUDGED if was.get(column, a_text) != now.get(column, a_text)]
    if changed:
        before.setdefault(change, []).append(replace(known))
        known.is_right = False
        known.now(DeviceState.SEEN, entry, say.PLANNED_SINCE(columns=changed))


def _seen(entry: Entry, body: Part, by_mac: Mapping[str, RowStanding]) -> None:
    for device in body.parts("devices"):
        known = by_mac.get(_mac_of(device))
        if known is None:
            continue
        if known.state not in (DeviceState.NEVER_SEEN, DeviceState.SEEN, DeviceState.ASKED):
            continue
        at, asks = device.each("addresses", a_text), device.each("asks", a_text)
        if asks and not at:
            known.now(DeviceState.ASKED, entry, say.FOR_ONE(protocol=asks[0]))
        else:
            known.now(
                DeviceState.SEEN, entry, say.AT(addresses=at) if at else say.WITHOUT_ADDRESS()
            )


def _verified(entry: Entry, body: Part, rows: Mapping[str, RowStanding]) -> None:
    for judged in body.parts("rows"):
        known = rows.get(judged.get("name", a_text, ""))
        verdict = judged.get("verdict", a_text, "")
        unread = is_unread(judged)
        if known is None or (verdict == "not judged" and not unread):
            continue
        row = known.row
        told = (_mac_of(judged), judged.get("address", a_text))
        if told != (str(row.mac or ""), str(row.address)):
            continue  # The row is planned otherwise since: the old verdict says nothing now.
        if unread and known.is_right:
            # A value that was read once, and was right, is not wrong because it is not read now.
            continue
        known.verified, known.judged_by = entry.at, entry.uid
        known.is_right = verdict == "right"
        _judged(known, judged, entry, unread)


def is_unread(judged: Part) -> bool:
    """Whether a row was not judged because the device did not tell all of itself."""
    is_judged = judged.get("verdict", a_text, "") != "not judged"
    return not is_judged and bool(judged.each("unread", a_text))


def _judged(known: RowStanding, judged: Part, entry: Entry, unread: bool) -> None:
    """Take the first finding of a verification of a row, and its advice."""
    first = next(judged.parts("codes"), Part(None))
    # Entries from before findings had codes have only the sentence.
    findings = [first.get("sentence", a_text, ""), *judged.each("findings", a_text), ""]
    said = next(filter(None, findings), "")
    state = DeviceState.NOT_ALL_READ if unread else DeviceState.WRONG
    known.now(DeviceState.RIGHT if known.is_right else state, entry)
    if known.is_right:
        return
    verdict = judged.get("verdict", a_text, "")
    known.detail = said if unread or not said else f"{verdict}: {said}"
    known.detail = known.detail or verdict
    known.code = first.get("code", a_text, "")
    known.values = first.get("values", an_object, {})
    known.advised = written_by_us(first.each("line", a_text), known.row.name, _ADVISED)


def _done(entry: Entry, body: Part, known: RowStanding | None) -> None:
    """Something that this tool did to one device."""
    if known is None or entry.mac != str(known.row.mac):
        return
    verdict, event = body.get("verdict", a_text), body.get("event", a_text)
    if entry.kind is Kind.POWER_CYCLE and verdict == "kept":
        known.proved, known.lost, known.given, known.not_set = entry.at, None, None, False
        known.now(DeviceState.PROVED, entry, say.ADDRESS(address=entry.address))
    elif entry.kind is Kind.POWER_CYCLE and verdict in _LOST:
        known.kept = known.proved = None
        known.lost, known.is_right = entry.at, False
        known.now(DeviceState.WRONG, entry, say.LOST_ITS_ADDRESS())
    elif entry.kind is Kind.SWAP and verdict == "right":
        known.verified, known.judged_by, known.is_right = entry.at, entry.uid, True
        known.now(DeviceState.RIGHT, entry)
    elif entry.kind is Kind.ASSIGNED and event in ("assigned", "answering"):
        known.is_right = False
        if event == "assigned":
            known.given, known.kept, known.proved = entry.at, None, None
        known.now(DeviceState.GIVEN, entry, say.ADDRESS(address=entry.address))
    elif entry.kind is Kind.SETTING and body.get("step", a_text) == "done":
        known.is_right = False
        _set(entry, body, known)
    elif entry.kind is Kind.SETTING and body.get("step", a_text) == "not done":
        known.not_set = True


def _set(entry: Entry, body: Part, known: RowStanding) -> None:
    """A device was told to hold an address; or, undoing that, to ask again, or to have none."""
    if entry.address == str(UNSPECIFIED):
        known.kept = None
        known.now(DeviceState.SEEN, entry, say.WITHOUT_ADDRESS())
    elif asks_again(body):
        known.kept, known.given = None, entry.at
        settings = body.get("settings", a_text, "")
        known.now(DeviceState.GIVEN, entry, say.ASKS_AGAIN(settings=settings))
    else:
        known.kept, known.lost, known.given, known.not_set = entry.at, None, None, False
        known.now(DeviceState.KEPT, entry, say.ADDRESS(address=entry.address))
