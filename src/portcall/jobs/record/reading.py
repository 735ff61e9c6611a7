"""Reading the logbook: which look is meant, what was done between two, how far the site is."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from pathlib import Path

from portcall.core.plan.rows import Plan
from portcall.core.printable import printable
from portcall.core.record.compare import Why
from portcall.core.record.entry import Entry, Kind
from portcall.core.record.look import SeenLook, read_look
from portcall.core.record.standing import Standing, standing
from portcall.core.trouble import BadInput
from portcall.site.files import read_bounded
from portcall.site.logbook.store import Logbook, Numbered

_LOOKS = (Kind.LOOK, Kind.VERIFICATION)
_LARGEST_FILE = 256 * 1024 * 1024
_MOST_LOOKS = 200
"""Looks that are read for the state of a site: who was last seen before these is forgotten."""


@dataclass(frozen=True, slots=True)
class Meant:
    """A look that was meant by some words; ``at`` is when it was, None for a file."""

    words: str
    look: SeenLook
    at: datetime | None

    def __str__(self) -> str:
        when = f" of {self.at.astimezone():%Y-%m-%d %H:%M}" if self.at else ""
        return f"{self.words}{when}"


class Looks:
    """The looks of a logbook, found by number, time, or as the last ones."""

    def __init__(self, book: Logbook) -> None:
        self._found = book.entries(_LOOKS)

    def __len__(self) -> int:
        return len(self._found)

    def meant(self, words: str) -> Meant:
        """By ``last``, ``last but one``, a number, a day or time, or a file. Raises BadInput."""
        path = Path(words)
        if path.suffix == ".json":
            return Meant(words, _read_file(path), None)
        if not self._found:
            raise BadInput("the logbook has no look yet: portcall find")
        return self._meant(words, self._numbered(words))

    def from_the_end(self, back: int) -> Meant:
        """The last look, or one so many before it. Raises BadInput."""
        if len(self._found) <= back:
            has = "no look" if not self._found else f"{len(self._found)} only"
            raise BadInput(f"the logbook has {has}; look again: portcall find")
        return self._meant(
            "the last look" if not back else "the look before", self._found[-1 - back]
        )

    def _meant(self, words: str, found: Numbered) -> Meant:
        look = read_look(found.body)
        if look is None:
            raise BadInput(f"look {found.number}: what it found cannot be read")
        return Meant(f"look {found.number}" if words[:1].isdigit() else words, look, found.entry.at)

    def _numbered(self, words: str) -> Numbered:
        if words == "last":
            return self._found[-1]
        if words.isdecimal():
            found = next((each for each in self._found if each.number == int(words)), None)
            if found is None:
                raise BadInput(
                    f"{words}: is the number of no look; they are in portcall logbook show"
                )
            return found
        until = parse_moment(words)
        before = [each for each in self._found if each.entry.at <= until]
        if not before:
            first = self._found[0].entry.local
            raise BadInput(f"{words}: no look is so old; the first is of {first:%Y-%m-%d %H:%M}")
        return before[-1]


def parse_moment(words: str, now: Callable[[], datetime] = lambda: datetime.now(UTC)) -> datetime:
    """The end of a day, or a time: ``yesterday``, ``2026-11-20``, ``2026-11-20 14:00``.

    By this computer's clock. Raises BadInput.
    """
    plain = words.strip()
    today = now().astimezone().replace(hour=0, minute=0, second=0, microsecond=0)
    if plain in ("yesterday", "today"):
        return today + timedelta(days=plain == "today")
    try:
        at = datetime.fromisoformat(plain)
    except ValueError:
        raise BadInput(
            f"{printable(plain, 40)}: is no look and no time; write last, a number, yesterday, "
            '2026-11-20 or "2026-11-20 14:00"'
        ) from None
    local = at if at.tzinfo is not None else at.astimezone()
    return local + timedelta(days=1) if len(plain) == len("2026-11-20") else local


def _read_file(path: Path) -> SeenLook:
    import json

    try:
        look = read_look(json.loads(read_bounded(path, _LARGEST_FILE)))
    except (ValueError, RecursionError):
        look = None
    if look is None:
        raise BadInput(f"{path.name}: is not what find prints: portcall find --json > {path.name}")
    return look


def explained(book: Logbook, one: Meant, other: Meant) -> Why:
    """What this tool did to a device between two looks, for the change of a field."""
    if one.at is None or other.at is None:
        return lambda mac, what: ""
    done = book.entries((Kind.SETTING, Kind.ASSIGNED, Kind.SWAP), one.at, other.at)
    by_mac: dict[str, Entry] = {each.entry.mac: each.entry for each in done if each.entry.mac}

    def why(mac: str, what: str) -> str:
        entry = by_mac.get(mac)
        if entry is None or what in ("firmware", "serial", "product", "maker", "doors"):
            return ""
        words = entry.command.split()
        by = f"by {words[1]}" if len(words) > 1 else "by this tool"
        return f"{by}, {entry.at.astimezone():%H:%M}"

    return why


def how_far(book: Logbook, plan: Plan) -> Standing:
    """The state of every planned device."""
    found = book.entries()
    looks = [each.number for each in found if each.entry.kind in _LOOKS]
    old = frozenset(looks[:-_MOST_LOOKS])
    chosen = [each for each in found if each.number not in old]
    return standing(plan, ((each.entry, body) for each, body in book.with_bodies(chosen)))
