"""Making the record: a document of plain JSON, out of the plan and the entries that it rests on.

All pages are views of this document, and carry it: what a page says can be worked out again from
the entries that it names.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import UTC, datetime, tzinfo
from typing import Any

from portcall.core.cip.interface_object import OBTAINS
from portcall.core.plan.changing import cells_of
from portcall.core.plan.rows import Plan
from portcall.core.printable import printable
from portcall.core.record.entry import Entry, Kind, documents
from portcall.core.record.standing import RowStanding, Standing, standing
from portcall.core.report.grounds import Looks, Whole, digest, grounds
from portcall.core.wire.cip_tcpip import Control

FORMAT = "portcall record 1"
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


def content(order: Order, entries: Sequence[Whole]) -> dict[str, Any]:
    """The document. ``entries`` are those that it rests on, oldest first."""
    state = standing(order.plan, entries)
    told = _told(order.plan, entries)
    zone = entries[-1][0].local.tzinfo if entries else UTC
    known = grounds(replace(entry, body=body) for entry, body in entries)
    return {
        "format": FORMAT,
        "version": order.version,
        "language": order.language,
        "site": order.site,
        "as_of": _when(entries[-1][0].at, zone) if entries else None,
        "people": sorted({_who(e) for e, _ in entries if e.person}),
        "summary": {
            "right": state.right,
            "rows": len(state.rows),
            "groups": [[name, *count] for name, count in state.groups.items() if name],
        },
        "devices": [_device(each, told.get(each.row.name, {}), zone) for each in state.rows],
        "open": list(_still_open(state)),
        "changes": list(_changes(entries, zone)),
        "replaced": [_replaced(e, body, zone) for e, body in entries if e.kind is Kind.SWAP],
        "watches": [_watch(e, body, zone) for e, body in entries if e.kind is Kind.WATCH],
        "remarks": list(order.remarks),
        "plan": [cells_of(row) for row in order.plan],
        "looks": None if order.looks is None else order.looks._asdict(),
        "picture": order.picture,
        "entries": [each._asdict() for each in known],
        "digest": digest(known),
    }


def _when(at: datetime, zone: tzinfo | None) -> str:
    """By the clock of the workstation that wrote last, with how far that is from UTC."""
    return at.astimezone(zone).isoformat(timespec="seconds")


def _who(entry: Entry) -> str:
    return f"{entry.person} on {entry.workstation}" if entry.person else entry.workstation


def _told(plan: Plan, entries: Sequence[Whole]) -> dict[str, dict[str, str]]:
    """The latest values that each planned device told of itself, by its row's name."""
    by_mac = {str(row.mac): row.name for row in plan if row.mac is not None}
    found: dict[str, dict[str, str]] = {}
    for entry, body in entries:
        for device in documents(body.get("devices")):
            _note(found, by_mac.get(str(device.get("mac"))), device)
        for judged in documents(body.get("rows")):
            name = by_mac.get(str(judged.get("mac")))
            unread = judged.get("unread")
            if judged.get("verdict") == "missing" or (
                judged.get("verdict") == "not judged" and not unread
            ):
                continue
            _note(found, name, judged)
            if name is not None and isinstance(judged.get("echo_ms"), int | float):
                found.setdefault(name, {})["echo"] = f"{judged['echo_ms']:.2f}"
        if entry.kind is Kind.SETTING and body.get("step") == "done":
            _note(found, by_mac.get(entry.mac), body)
    return found


def _note(found: dict[str, dict[str, str]], name: str | None, said: Mapping[str, Any]) -> None:
    if name is None:
        return
    values = {key: _text(value) for key in _TOLD if isinstance(value := said.get(key), str)}
    values = {key: value for key, value in values.items() if value}
    told = found.setdefault(name, {})
    for key in values:
        # What a device tells itself by now is not what somebody read there before.
        told.pop(f"{key} by hand", None)
    by_hand = said.get("by_hand")
    for key, value in by_hand.items() if isinstance(by_hand, dict) else ():
        if key in _TOLD and isinstance(value, str):
            values |= {key: _text(value), f"{key} by hand": "yes"}
    told.update(values)


def _device(each: RowStanding, told: Mapping[str, str], zone: tzinfo | None) -> dict[str, Any]:
    row = each.row

    def at(moment: datetime | None) -> str | None:
        return None if moment is None else _when(moment, zone)

    obtains = told.get("obtains", "")
    is_stored = obtains == OBTAINS[Control.STORED]
    holds = "keeps" if each.kept or each.proved or is_stored else None
    holds = "asks" if obtains in (OBTAINS[Control.BOOTP], OBTAINS[Control.DHCP]) else holds
    by_hand = [key for key in _TOLD if told.get(f"{key} by hand")]
    return {
        "name": row.name,
        "place": row.place,
        "group": row.group,
        "kind": row.kind,
        "mac": str(row.mac) if row.mac else None,
        "address": str(row.address),
        **{key: told.get(key) for key in _TOLD},
        **({"by_hand": by_hand} if by_hand else {}),
        "planned_mask": None if row.mask_assumed else str(row.interface.netmask),
        "planned_gateway": str(row.gateway) if row.gateway else None,
        "holds": holds,
        "state": each.state.value,
        "is_right": each.is_right,
        "since": at(each.since),
        "verified": at(each.verified),
        "echo_ms": told.get("echo"),
        "kept": at(each.kept),
        "power_cycle": at(each.proved),
    }


def _still_open(state: Standing) -> Iterator[dict[str, str]]:
    """The open points of a site: of each row, and the devices in none."""
    for each in state.rows:
        if not each.is_done:
            because = each.open_because if each.is_right else None
            told = because.sentence if because is not None else each.detail
            what = ": ".join(filter(None, (each.state.value, told)))
            yield {"name": each.row.name, "what": what, "next": str(each.next_line or "")}
    for stranger in state.unplanned:
        yield {"name": "", "what": f"not in the plan: {stranger}", "next": "portcall plan take"}


def _changes(entries: Iterable[Whole], zone: tzinfo | None) -> Iterator[dict[str, Any]]:
    """The changes in devices and in the plan, with the values before."""
    had: dict[str, str] = {}
    for entry, body in entries:
        told: tuple[str, str, str] | None = None
        if entry.kind is Kind.SETTING and body.get("step") == "before":
            had[entry.mac] = _text(body.get("settings"))
        elif entry.kind is Kind.SETTING and body.get("step") != "read" and entry.mac in had:
            # Without that, it was so already, or could not be asked: nothing was overwritten.
            settings = _text(body.get("settings"))
            now = settings if body.get("step") == "done" else f"not done: {settings}".rstrip(": ")
            by = _text(body.get("by"))
            told = f"device, by {by}" if by else "device", now, had.pop(entry.mac)
        elif entry.kind is Kind.ASSIGNED and body.get("event") == "assigned":
            told = f"given by {_text(body.get('protocol'))}", entry.address, ""
        elif entry.kind is Kind.PLAN:
            told = "plan", *_in_the_plan(_cells(body.get("was")), _cells(body.get("is")))
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
            }
    for mac, settings in had.items():
        about = {"at": None, "who": "", "name": "", "mac": mac}
        yield {**about, "what": "device", "now": "not known to be done", "before": settings}


def _in_the_plan(was: Mapping[str, str], now: Mapping[str, str]) -> tuple[str, str]:
    """The differences of a row, now and before."""
    other = [key for key in dict.fromkeys((*was, *now)) if was.get(key) != now.get(key)]
    after, before = (
        ", ".join(f"{key} {cells[key]}" for key in other if cells.get(key)) for cells in (now, was)
    )
    return after or "removed", before


def _cells(value: Any) -> dict[str, str]:
    return {_text(k): _text(v) for k, v in value.items()} if isinstance(value, dict) else {}


def _replaced(entry: Entry, body: Mapping[str, Any], zone: tzinfo | None) -> dict[str, Any]:
    return {
        "at": _when(entry.at, zone),
        "who": _who(entry),
        "name": entry.name,
        "old": _who_it_is(body.get("old")),
        "new": _who_it_is(body.get("new")) or entry.mac,
        "address": entry.address,
        "verdict": _text(body.get("verdict")) or "not done",
    }


def _who_it_is(said: Any) -> str | None:
    """A device's MAC, and what it was known by."""
    if not isinstance(said, dict):
        return None
    known = [("", "mac"), ("", "product"), ("serial ", "serial"), ("firmware ", "firmware")]
    told = [f"{word}{_text(said[key])}" for word, key in known if said.get(key)]
    return ", ".join(told) or None


def _watch(entry: Entry, body: Mapping[str, Any], zone: tzinfo | None) -> dict[str, Any]:
    return {
        "at": _when(entry.at, zone),
        "who": _who(entry),
        "summary": entry.summary,
        "targets": [_target(each) for each in documents(body.get("targets"))],
    }


def _target(said: Mapping[str, Any]) -> dict[str, Any]:
    spans = said.get("spans")
    known = spans[:_MOST_SPANS] if isinstance(spans, list) else []
    return {
        "target": _text(said.get("target")),
        "sent": _number(said.get("sent")),
        "lost": _number(said.get("lost")),
        "median_ms": _number(said.get("median_ms")),
        "gap_s": _number(said.get("gap_s")),
        "began": _text(said.get("began")) or None,
        "span_s": _number(said.get("span_s")),
        "spans": [[_number(v) for v in each[:5]] for each in known if _is_span(each)],
    }


def _is_span(value: Any) -> bool:
    return isinstance(value, list) and len(value) >= 5 and None not in map(_number, value[:2])


def _number(value: Any) -> float | int | None:
    """A number that can be drawn; None for anything else."""
    is_number = isinstance(value, int | float) and not isinstance(value, bool)
    return value if is_number and 0 <= value < 1e12 else None


def _text(value: Any) -> str:
    """Text out of an entry, which others may have written: a line of ordinary characters."""
    return "" if value is None else printable(str(value), _LONGEST)
