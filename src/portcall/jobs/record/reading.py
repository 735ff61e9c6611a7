"""Reading the logbook: which look is meant, what was done between two, how far the site is."""

from __future__ import annotations

from collections.abc import Callable, Collection
from contextlib import suppress
from dataclasses import dataclass, replace
from datetime import UTC, date, datetime, timedelta
from ipaddress import IPv4Address
from pathlib import Path
from typing import NamedTuple

from portcall.core.address import Mac
from portcall.core.document import parsed
from portcall.core.find.sighting import Sighting
from portcall.core.finding import Line
from portcall.core.plan.rows import Plan
from portcall.core.printable import printable
from portcall.core.record.compare import Why
from portcall.core.record.entry import Entry, Kind
from portcall.core.record.look import SeenLook, read_look, read_look_text
from portcall.core.record.notes import Note, notes_in
from portcall.core.record.parts import PARTS_KEY
from portcall.core.record.standing import Standing, standing
from portcall.core.trouble import BadInput, NotPossibleHere
from portcall.site.files import read_bounded
from portcall.site.folder import Site
from portcall.site.logbook.store import Logbook, Numbered

_LOOKS = (Kind.LOOK, Kind.VERIFICATION)
_LARGEST_FILE = 256 * 1024 * 1024
_MOST_TRIED, _FEW = 20, 5


@dataclass(frozen=True, slots=True)
class NamedLook:
    """A look, and how it was named; ``entry`` is its own in the logbook, None for a file."""

    words: str
    look: SeenLook
    entry: Entry | None = None
    found: Numbered | None = None

    @property
    def whole(self) -> Entry | None:
        """Its entry with all that it holds; None for a file."""
        if self.entry is None or self.found is None:
            return self.entry
        return replace(self.entry, body=self.found.body)

    @property
    def at(self) -> datetime | None:
        """When it was; None for a file."""
        return self.entry.at if self.entry else None

    def __str__(self) -> str:
        when = f" of {self.at.astimezone():%Y-%m-%d %H:%M}" if self.at else ""
        return f"{self.words}{when}"


class Looks:
    """The looks of a logbook, found by number, time, or as the last ones."""

    def __init__(self, book: Logbook) -> None:
        self._all = book.entries(_LOOKS, numbered=True)
        # A look that a wrong clock dated is no last one; by its number it can be read.
        self._found = [each for each in self._all if not each.entry.misdated]

    def named(self, words: str) -> NamedLook:
        """By ``last``, a number, a day or time, or the file of one. Raises BadInput."""
        path = Path(words)
        if path.suffix == ".json":
            return NamedLook(words, _read_file(path))
        if words == "last":
            return self.from_the_end(0)
        if words.isdecimal():
            found = next((each for each in self._all if str(each.number) == words), None)
            if found is None:
                raise BadInput(f"{words}: no look has this number", "see portcall logbook show")
            return self._read(f"look {found.number}", found)
        until = parse_time(words).ends
        before = [each for each in self._found if each.entry.at < until]
        if not before:
            raise BadInput(f"{printable(words, 40)}: the logbook has no look that is so old")
        return self._read(words, before[-1])

    def from_the_end(self, back: int) -> NamedLook:
        """The last look, or one so many before it. Raises BadInput."""
        if len(self._found) <= back:
            has = "no look" if not self._found else f"{len(self._found)} only"
            raise BadInput(f"the logbook has {has}; look again", Line("find"))
        words = "the look before" if back else "the last look"
        return self._read(words, self._found[-1 - back])

    def with_switches(self, meant: NamedLook) -> NamedLook:
        """This look, or the last one before it in which a switch told its ports; else this one."""
        if meant.look.switches or meant.at is None:
            return meant
        before = [each for each in self._found if each.entry.at < meant.at]
        for each in reversed(before[-_MOST_TRIED:]):
            look = read_look_text(each.text)
            if look is not None and look.switches:
                return NamedLook(f"look {each.number}", look, each.entry, each)
        return meant

    def parts_before(self, meant: NamedLook) -> dict[Mac, list[Sighting]]:
        """What is inside devices, by their MACs, as the last look before this one told that asked.

        Nothing of a device that this look has asked itself.
        """
        asked = {seen.mac for seen in meant.look.sightings() if seen.part is not None}
        found: dict[Mac, list[Sighting]] = {}
        before = [each for each in self._found if meant.at and each.entry.at < meant.at]
        for each in reversed(before[-_MOST_TRIED:]):
            look = read_look_text(each.text) if PARTS_KEY in each.text else None
            here: dict[Mac, list[Sighting]] = {}
            for seen in look.sightings() if look is not None else ():
                if seen.part is not None and seen.mac is not None and seen.mac not in asked:
                    here.setdefault(seen.mac, []).append(seen)
            for mac, sightings in here.items():
                found.setdefault(mac, sightings)
        return found

    def _read(self, words: str, found: Numbered) -> NamedLook:
        look = read_look_text(found.text)
        if look is None:
            raise BadInput(f"look {found.number}: what it found cannot be read")
        return NamedLook(words, look, found.entry, found)


def doors_before(site: Site, address: IPv4Address, mac: Mac | None) -> dict[int, str]:
    """The doors of a device that the last look saw open which saw the device, and when that was.

    Nothing where there is no record, or none that can be read.
    """
    with suppress(NotPossibleHere, OSError, BadInput):
        looks = Looks(Logbook(site.folder))
        for back in range(_FEW):
            named = looks.from_the_end(back)
            for device in named.look.devices_with((str(address),)):
                is_it = mac is None or device.mac == str(mac)
                if is_it and str(address) in device.addresses and named.at is not None:
                    when = f"{named.at.astimezone():%Y-%m-%d %H:%M}"
                    # A door is written as its number, and what it is called.
                    numbers = [door.partition(" ")[0] for door in device.doors]
                    return {int(each): when for each in numbers if each.isdecimal()}
    return {}


class Span(NamedTuple):
    """A day, or a moment: ``ends`` is no more in it."""

    begins: datetime
    ends: datetime


def parse_time(words: str, now: Callable[[], datetime] = lambda: datetime.now(UTC)) -> Span:
    """``today``, ``yesterday``, ``2026-11-20``, or ``"2026-11-20 14:00"``, which is a moment.

    By this computer's clock. Raises BadInput.
    """
    plain = words.strip()
    today = now().astimezone().date()
    named = {"today": today, "yesterday": today - timedelta(days=1)}
    try:
        day = named.get(plain) or date.fromisoformat(plain)
    except ValueError:
        day = None
    try:
        if day is None:
            at = datetime.fromisoformat(plain)
            at = at if at.tzinfo is not None else at.astimezone()
            return Span(at, at + timedelta(microseconds=1))
        first = datetime(day.year, day.month, day.day).astimezone()
        following = day + timedelta(days=1)
        last = datetime(following.year, following.month, following.day).astimezone()
        return Span(first, last)
    except (ValueError, OverflowError):
        raise BadInput(
            f"{printable(plain, 40)}: is no look and no time",
            'write last, a number, yesterday, 2026-11-20 or "2026-11-20 14:00"',
        ) from None


def _read_file(path: Path) -> SeenLook:
    look = read_look(parsed(read_bounded(path, _LARGEST_FILE, "look")))
    if look is None:
        typed = f"portcall find --json > {path.name}"
        raise BadInput(f"{path.name}: is not what find prints", f"this writes it: {typed}")
    return look


def explained(book: Logbook, one: NamedLook, other: NamedLook) -> Why:
    """This tool's own deeds between two looks, as reasons for the change of a field."""
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
    found = book.of_the_state()
    return standing(plan, ((each.entry, body) for each, body in book.with_bodies(found)))


def notes_about(
    site: Site, plan: Plan, mac: Mac | None, addresses: Collection[IPv4Address]
) -> list[Note]:
    """The notes about a device and its parts, the oldest first; none where none can be read.

    It is known by its MAC; where that is not known, by its row's name and its address.
    """
    row = plan.by_mac(mac) or next(filter(None, map(plan.by_address, addresses)), None)
    names = {row.name, *(each.name for each in plan.parts_of(row.name))} if row else set()
    about: list[Note] = []
    with suppress(NotPossibleHere, OSError):
        book = Logbook(site.folder)
        found = book.entries((Kind.NOTE,))
        for each in notes_in((noted.entry, body) for noted, body in book.with_bodies(found)):
            entry = each.entry
            device = entry.name.partition(":")[0]
            is_it = entry.mac == str(mac) if entry.mac and mac else False
            is_named = bool({entry.name, device} & names)
            at = not entry.mac and entry.address in map(str, addresses)
            if is_it or is_named or at:
                about.append(each)
    return about
