"""The grounds of a record: the entries it is made of, each with a fingerprint.

The fingerprint of an entry is the SHA-256 (FIPS 180-4) of its line as ``logbook export`` writes it;
that of all is the SHA-256 of those fingerprints in hexadecimal, one a line, oldest entry first.
Anybody can work that out who has the export.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from hashlib import sha256
from typing import Any, NamedTuple

from portcall.core.plan.rows import Plan
from portcall.core.record.entry import Entry, Kind
from portcall.core.record.look import read_look
from portcall.core.record.planned import is_only_noticed
from portcall.core.record.standing import standing

LOOKS = (Kind.LOOK, Kind.VERIFICATION)
BESIDE = (Kind.MATCH, Kind.REPORT)
"""Entries about the computer, and about records: a hand-over record is about the site."""

Whole = tuple[Entry, Mapping[str, Any]]
"""An entry, and what it holds."""


class Ground(NamedTuple):
    """An entry that a record rests on."""

    uid: str
    at: str
    kind: str
    sha256: str


class Looks(NamedTuple):
    """The looks that a record's drawing is made of, by their entries: devices, and ports."""

    look: str
    ports: str


def grounds(entries: Iterable[Entry]) -> tuple[Ground, ...]:
    """The fingerprints of whole entries, oldest first."""
    ordered = sorted(entries, key=lambda each: (each.at, each.uid))
    return tuple(
        Ground(each.uid, each.document["at"], each.kind.value, _sha(each.line)) for each in ordered
    )


def digest(known: Sequence[Ground]) -> str:
    """The fingerprint of all of them."""
    return _sha("".join(f"{each.sha256}\n" for each in known))


def _sha(text: str) -> str:
    return sha256(text.encode()).hexdigest()


def chosen_looks(plan: Plan, entries: Sequence[Whole]) -> Looks | None:
    """The look to draw: of the later ones, the one that asked for most of what is planned.

    And the one that tells the ports: the last in which a switch did.
    """
    best: tuple[int, int] | None = None
    found = ports = ""
    for place, (entry, body) in enumerate(entries):
        look = read_look(body) if entry.kind in LOOKS else None
        if look is None:
            continue
        asked = sum(look.has_asked(row.address) for row in plan)
        if best is None or (asked, place) > best:
            best, found = (asked, place), entry.uid
        if look.switches:
            ports = entry.uid
    return Looks(found, ports or found) if found else None


def chosen(plan: Plan, entries: Sequence[Whole], drawn: Looks | None) -> set[str]:
    """Which entries a record of a plan rests on.

    All that was done; of the looks, those that say the last of a row, and those that are drawn.
    """
    done = {
        entry.uid
        for entry, body in entries
        if entry.kind not in (*LOOKS, *BESIDE) and not is_only_noticed(entry, body)
    }
    rows = standing(plan, entries).rows
    said = {uid for each in rows for uid in (each.source, each.judged_by) if uid}
    return done | said | set(drawn or ())


def of(entries: Iterable[Whole], uids: Collection[str]) -> Iterator[Whole]:
    """The entries that a record rests on."""
    return ((entry, body) for entry, body in entries if entry.uid in uids)
