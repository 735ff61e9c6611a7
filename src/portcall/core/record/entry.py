"""An entry of the logbook: who saw or did what, when and with what line."""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta, timezone
from enum import StrEnum
from typing import Any

from portcall.core.document import Part, a_number, a_text, an_object


class Kind(StrEnum):
    """The subjects of entries; the names are part of the record."""

    LOOK = "look"
    VERIFICATION = "verification"
    ASSIGNED = "assigned"
    SETTING = "setting"
    MATCH = "match"
    PLAN = "plan"
    SWAP = "swap"
    POWER_CYCLE = "power cycle"
    WATCH = "watch"
    NOTE = "note"
    REPORT = "report"


@dataclass(frozen=True, slots=True)
class Entry:
    """Something that was seen or done, in short; ``uid`` is its own, wherever it is copied to.

    ``at`` is in UTC, ``offset`` how far the workstation's clock was ahead. ``name``, ``mac`` and
    ``address`` are of the one device that it is about, empty where it is about several. ``boot``
    names the computer's last start, "" where none is known, and ``uptime`` has the seconds since.
    ``misdated`` is what a reader found: the clock was wrong, and ``at`` says nothing.
    """

    uid: str
    at: datetime
    kind: Kind
    workstation: str = ""
    person: str = ""
    command: str = ""
    adapter: str = ""
    name: str = ""
    mac: str = ""
    address: str = ""
    summary: str = ""
    offset: timedelta = timedelta(0)
    body: Mapping[str, Any] = field(default_factory=dict)
    boot: str = ""
    uptime: float = 0.0
    misdated: bool = False

    @property
    def local(self) -> datetime:
        """When it was, by the workstation's own clock."""
        return self.at.astimezone(timezone(self.offset))

    @property
    def at_text(self) -> str:
        """When it was, as JSON has it: times so written are in order as texts, too."""
        return self.at.astimezone(UTC).isoformat(timespec="milliseconds")

    @property
    def document(self) -> dict[str, Any]:
        """As JSON has it."""
        return {
            "uid": self.uid,
            "at": self.at_text,
            "offset": round(self.offset.total_seconds() / 60),
            "kind": self.kind.value,
            **({"boot": self.boot, "uptime": self.uptime} if self.boot else {}),
            **{key: getattr(self, key) for key in _TEXTS},
            "body": dict(self.body),
        }

    @property
    def line(self) -> str:
        """As ``logbook export`` writes it: the same on every laptop that has it."""
        return line_of(self.document)

    @property
    def body_text(self) -> str:
        """Its body as the logbook keeps it: JSON, with the devices on lines of their own.

        No text of JSON has a line end in it (RFC 8259 §7), so that a line is a device.
        """
        pieces = []
        for key in sorted(self.body):
            value = self.body[key]
            if key == "devices" and isinstance(value, list) and value:
                pieces.append(f"{_HEAD}\n{_BETWEEN.join(map(line_of, value))}\n{_TAIL}")
            else:
                pieces.append(f"{line_of(key)}: {line_of(value)}")
        return f"{{{', '.join(pieces)}}}"


_HEAD, _BETWEEN, _TAIL = '"devices": [', ",\n", "]"


def devices_apart(text: str) -> tuple[str, list[str]]:
    """A body's text without its devices, and these, one a line; all of it and () in older ones."""
    first, _, rest = text.partition("\n")
    lines, end, last = rest.rpartition("\n")
    if not (first.endswith(_HEAD) and end and last.startswith(_TAIL)):
        return text, []
    return first + last, lines.split(_BETWEEN)


_ENCODER = json.JSONEncoder(ensure_ascii=False, sort_keys=True)


def line_of(value: object) -> str:
    """A value of JSON on one line; equal ones are equal."""
    return _ENCODER.encode(value)


_TEXTS = ("workstation", "person", "command", "adapter", "name", "mac", "address", "summary")


def read_entry(document: object) -> Entry | None:
    """An entry from JSON; None for what is none."""
    part = Part(document)
    try:
        at = datetime.fromisoformat(part.take("at", a_text))
        if at.tzinfo is None:
            return None
        return Entry(
            part.take("uid", a_text)[:64],
            at.astimezone(UTC),
            part.take("kind", Kind),
            offset=timedelta(minutes=part.get("offset", int, 0)),
            body=part.get("body", an_object, {}),
            boot=part.get("boot", a_text, ""),
            uptime=part.get("uptime", a_number, 0.0),
            misdated=False,
            **{key: part.get(key, a_text, "") for key in _TEXTS},
        )
    except (ValueError, OverflowError):
        return None
