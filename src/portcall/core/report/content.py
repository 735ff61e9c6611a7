"""Making the record: a document of plain JSON, out of the plan and the entries that it rests on.

All pages are views of this document, and carry it: what a page says can be worked out again from
the entries that it names.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime, tzinfo
from functools import partial
from typing import Any

from portcall.core.cip.interface_object import OBTAINS
from portcall.core.document import Part, a_number, a_text
from portcall.core.finding import Name
from portcall.core.plain import plain
from portcall.core.plan.changing import cells_of
from portcall.core.plan.rows import Plan
from portcall.core.record.entry import Entry, Kind
from portcall.core.record.look import read_look
from portcall.core.record.notes import notes_in
from portcall.core.record.planned import RowChange, done_changes
from portcall.core.record.standing import RowStanding, standing
from portcall.core.report.grounds import LOOKS, Looks, Whole, digest, grounds
from portcall.core.report.sections import (
    conflicts,
    firmware,
    open_points,
    panels,
    subnets,
    switch_ports,
)
from portcall.core.wire.cip_tcpip import Control

FORMAT = "portcall record 2"
EARLIER_FORMATS = ("portcall record 1",)

Read = tuple[Entry, Part]
"""An entry, and what it holds, to be read."""

_TOLD = ("maker", "product", "serial", "firmware", "mask", "gateway", "obtains")
_MOST_SPANS = 200
_LONGEST = 200


@dataclass(frozen=True, slots=True)
class Order:
    """The order for a record: the same order and the same entries give the same document.

    ``picture`` is the sketch as it is laid out from, None for none.
    """

    site: str
    version: str
    language: str
    plan: Plan
    remarks: Sequence[str] = ()
    looks: Looks | None = None
    picture: Mapping[str, Any] | None = None
    pictures: Mapping[str, str] = field(default_factory=dict)
    """Small pictures of what belongs to notes, by the digests of the files."""
    contract: str = ""
    customer: str = ""
    printed: Mapping[str, Any] = field(default_factory=dict)
    """The revision, and who made it when (``printed_by``); empty before that is known."""
    made_with: Mapping[str, str] = field(default_factory=dict)
    """The libraries that set its pages, and their versions."""


def content(order: Order, whole: Sequence[Whole]) -> dict[str, Any]:
    """The document. ``whole`` are the entries that it rests on, oldest first."""
    state = standing(order.plan, whole)
    entries = [(entry, Part(body)) for entry, body in whole]
    told = _told(order.plan, entries)
    remarks = {each.entry.uid for each in notes_in(whole) if each.is_remark}
    last = next((entry for entry, _ in reversed(entries) if entry.uid not in remarks), None)
    zone = last.local.tzinfo if last is not None else UTC
    known = grounds(replace(entry, body=body) for entry, body in whole)
    devices = [_device(each, told.get(each.row.name, {}), zone) for each in state.rows]
    looks = {entry.uid: body for entry, body in whole if entry.kind in LOOKS}
    drawn = read_look(looks.get(order.looks.look)) if order.looks is not None else None
    wired = read_look(looks.get(order.looks.ports)) if order.looks is not None else None
    return {
        "format": FORMAT,
        "version": order.version,
        "language": order.language,
        "site": order.site,
        "contract": order.contract,
        "customer": order.customer,
        "printed": dict(order.printed),
        "made_with": dict(order.made_with),
        "as_of": _when(last.at, zone) if last is not None else None,
        "people": sorted({_who(e) for e, _ in entries if e.person and e.uid not in remarks}),
        "summary": {
            "right": state.right,
            "rows": len(state.rows),
            "groups": [[name, *count] for name, count in state.groups.items() if name],
        },
        "devices": devices,
        "open": list(open_points(state, list(notes_in(whole)), conflicts(drawn))),
        "panels": list(panels(order.plan)),
        "subnets": list(subnets(order.plan)),
        "firmware": list(firmware(devices)),
        "ports": list(switch_ports(order.plan, wired)),
        "changes": list(_changes(entries, zone)),
        "replaced": [_replaced(e, body, zone) for e, body in entries if e.kind is Kind.SWAP],
        "watches": [_watch(e, body, zone) for e, body in entries if e.kind is Kind.WATCH],
        "notes": [*_planned_notes(order.plan), *_notes(whole, zone)],
        "pictures": dict(order.pictures),
        "remarks": list(order.remarks),
        "plan": [cells_of(row) for row in order.plan.rows],
        "looks": plain(order.looks),
        "picture": order.picture,
        "entries": plain(known),
        "digest": digest(known),
    }


def printed_by(entry: Entry, revision: int) -> dict[str, Any]:
    """Which revision of a record it is, who made it, and when, by the entry of that."""
    return {"revision": revision, "at": _when(entry.at, entry.local.tzinfo), "who": _who(entry)}


def _when(at: datetime, zone: tzinfo | None) -> str:
    """By the clock of the workstation that wrote last, with how far that is from UTC."""
    return at.astimezone(zone).isoformat(timespec="seconds")


def _who(entry: Entry) -> str:
    return f"{entry.person} ({entry.workstation})" if entry.person else entry.workstation


def _told(plan: Plan, entries: Sequence[Read]) -> dict[str, dict[str, str]]:
    """The latest values that each planned device told of itself, by its row's name."""
    by_mac = {str(row.mac): row.name for row in plan if row.mac is not None}
    parts: dict[str, Name] = {row.name: row.name for row in plan.parts}
    found: dict[str, dict[str, str]] = {}
    for entry, body in entries:
        for device in body.parts("devices"):
            _note(found, by_mac.get(_text(device, "mac")), device)
        for judged in body.parts("rows"):
            name = by_mac.get(_text(judged, "mac")) or parts.get(_text(judged, "name"))
            verdict = _text(judged, "verdict")
            is_unread = bool(judged.each("unread", a_text))
            if verdict == "missing" or (verdict == "not judged" and not is_unread):
                continue
            _note(found, name, judged)
            echo = judged.get("echo_ms", a_number)
            if name is not None and echo is not None:
                found.setdefault(name, {})["echo"] = f"{echo:.2f}"
        if entry.kind is Kind.SETTING and _text(body, "step") == "done":
            _note(found, by_mac.get(entry.mac), body)
    return found


def _note(found: dict[str, dict[str, str]], name: str | None, said: Part) -> None:
    if name is None:
        return
    values = {key: value for key in _TOLD if (value := _text(said, key))}
    told = found.setdefault(name, {})
    for key in values:
        # What the device now reports itself is newer than what a person read there.
        told.pop(f"{key} by hand", None)
    by_hand = said.part("by_hand")
    for key in by_hand:
        if key in _TOLD:
            values |= {key: _text(by_hand, key), f"{key} by hand": "yes"}
    told.update(values)


def _device(each: RowStanding, told: Mapping[str, str], zone: tzinfo | None) -> dict[str, Any]:
    row = each.row

    def at(moment: datetime | None) -> str | None:
        return None if moment is None else _when(moment, zone)

    obtains = told.get("obtains", "")
    is_stored = obtains == OBTAINS[Control.STORED]
    holds = "keeps" if each.kept or each.proved or is_stored else None
    holds = "asks" if obtains in (OBTAINS[Control.BOOTP], OBTAINS[Control.DHCP]) else holds
    mask = str(row.interface.netmask)
    by_hand = [key for key in _TOLD if told.get(f"{key} by hand")]
    return {
        "name": row.name,
        "place": row.place,
        "group": row.group,
        "kind": row.kind,
        "mac": str(row.mac) if row.mac else None,
        "address": row.where,
        **{key: told.get(key) for key in _TOLD},
        **({"by_hand": by_hand} if by_hand else {}),
        "planned_mask": None if row.mask_assumed or row.has_no_address else mask,
        "planned_gateway": str(row.gateway) if row.gateway else None,
        "holds": holds,
        "state": each.state.value,
        "is_right": each.is_right,
        "since": at(each.since),
        "verified": at(each.verified),
        "echo_ms": told.get("echo"),
        "kept": at(each.kept),
        "power_cycle": at(each.proved),
        **({"part": True} if row.has_no_address else {}),
    }


def _planned_notes(plan: Plan) -> Iterator[dict[str, Any]]:
    """What the plan says of its devices in words: its notes, and its own further columns."""
    for row in plan.rows:
        for column, text in {"note": row.note, **dict(row.extra)}.items():
            if text:
                told = text if column == "note" else f"{column}: {text}"
                yield {"at": None, "who": "", "name": row.name, "text": told, "files": []}


def _notes(whole: Sequence[Whole], zone: tzinfo | None) -> Iterator[dict[str, Any]]:
    """What people wrote down, the oldest first."""
    for each in notes_in(whole):
        if each.is_remark or each.is_done:
            continue
        yield {
            "at": _when(each.entry.at, zone),
            "who": _who(each.entry),
            "name": each.entry.name or each.entry.mac,
            "text": each.text,
            "files": [file._asdict() for file in each.files],
        }


def _changes(entries: Iterable[Read], zone: tzinfo | None) -> Iterator[dict[str, Any]]:
    """The changes in devices and in the plan, with the values before."""
    had: dict[str, str] = {}
    entries = list(entries)
    planned = {each.entry.uid: each for each in done_changes((e, b.without()) for e, b in entries)}
    for entry, body in entries:
        told: tuple[str, str, str] | None = None
        columns: dict[str, tuple[str, str]] = {}
        step, settings, by = (_text(body, key) for key in ("step", "settings", "by"))
        if entry.kind is Kind.SETTING and step == "before":
            had[entry.mac] = settings
        elif entry.kind is Kind.SETTING and step != "read" and entry.mac in had:
            # Without an earlier value, it was so already or could not be read: nothing was
            # overwritten.
            now = settings if step == "done" else f"not done: {settings}".rstrip(": ")
            told = f"device, by {by}" if by else "device", now, had.pop(entry.mac)
        elif entry.kind is Kind.ASSIGNED and _text(body, "event") == "assigned":
            told = f"given by {_text(body, 'protocol')}", entry.address, ""
        elif entry.uid in planned:
            change = planned[entry.uid]
            what = "plan, by hand" if change.by_hand else "plan"
            told, columns = (what, *_in_the_plan(change)), change.columns
        if told is not None:
            what, now, before = told
            yield {
                "at": _when(entry.at, zone),
                "who": _who(entry),
                "name": entry.name,
                "mac": entry.mac,
                "what": what,
                "now": now,
                "before": before,
                **({"columns": plain(columns)} if columns else {}),
            }
    for mac, settings in had.items():
        about = {"at": None, "who": "", "name": "", "mac": mac}
        yield {**about, "what": "device", "now": "not known to be done", "before": settings}


def _in_the_plan(change: RowChange) -> tuple[str, str]:
    """The differences of a row, now and before."""
    columns = change.columns.items()
    before = ", ".join(f"{key} {was}" for key, (was, _) in columns if was)
    after = ", ".join(f"{key} {now}" for key, (_, now) in columns if now)
    return after or "removed", before


def _replaced(entry: Entry, body: Part, zone: tzinfo | None) -> dict[str, Any]:
    return {
        "at": _when(entry.at, zone),
        "who": _who(entry),
        "name": entry.name,
        "old": _who_it_is(body.part("old")),
        "new": _who_it_is(body.part("new")) or entry.mac,
        "address": entry.address,
        "verdict": _text(body, "verdict") or "not done",
    }


def _who_it_is(said: Part) -> str | None:
    """A device's MAC, and what it was known by."""
    known = [("", "mac"), ("", "product"), ("serial ", "serial"), ("firmware ", "firmware")]
    told = [f"{word}{text}" for word, key in known if (text := _text(said, key))]
    return ", ".join(told) or None


def _watch(entry: Entry, body: Part, zone: tzinfo | None) -> dict[str, Any]:
    return {
        "at": _when(entry.at, zone),
        "who": _who(entry),
        "summary": entry.summary,
        "targets": [_target(each) for each in body.parts("targets")],
    }


def _target(said: Part) -> dict[str, Any]:
    numbers = ("sent", "lost", "median_ms", "gap_s", "span_s")
    return {
        "target": _text(said, "target"),
        **{key: said.get(key, a_number) for key in numbers},
        "began": _text(said, "began") or None,
        "spans": said.each("spans", _span, _MOST_SPANS),
    }


def _span(value: object) -> list[float | int | None]:
    """What was sent and lost in a while, and its three times. Raises ValueError."""
    if not isinstance(value, list) or len(value) < 5:
        raise ValueError("is no span")
    sent, lost = a_number(value[0]), a_number(value[1])
    times = ("least", "median", "most")
    said = Part(dict(zip(times, value[2:5], strict=True)))
    return [sent, lost, *(said.get(key, a_number) for key in times)]


def _text(said: Part, key: str) -> str:
    """Text out of an entry, which others may have written: a line of ordinary characters."""
    return said.get(key, partial(a_text, longest=_LONGEST), "")
