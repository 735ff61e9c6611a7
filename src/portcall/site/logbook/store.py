"""The logbook, read: entries by kind, time and device, out of the database made of its lines.

Nothing is written into the lines here. What a look found is kept once, however often it is found
again, under a digest of it. What is damaged is told (``heard``) to whoever listens, since no
answer that rests on a damaged logbook may pass that over.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from pathlib import Path
from typing import Any, TypeVar

import sqlalchemy as sql
from sqlalchemy.exc import DatabaseError, OperationalError

from portcall.core.document import Part
from portcall.core.record.chain import BROKEN, HARMLESS, Chain
from portcall.core.record.entry import Entry, Kind, read_entry
from portcall.core.record.story import said_of
from portcall.core.trouble import NotPossibleHere
from portcall.site.logbook.cache import Cache
from portcall.site.logbook.contents import an_object, inflated, unpacked
from portcall.site.logbook.earlier import take_over
from portcall.site.logbook.folder import logbook_folder
from portcall.site.logbook.heard import tell
from portcall.site.logbook.tables import CONTENTS, ENTRIES, IN_ORDER, LATEST, damage_of, extents_of

T = TypeVar("T")

_READ_AT_ONCE = 200


class Numbered:
    """An entry, and its number in this logbook; its body is read when it is asked for.

    ``source`` names the file that its line is in.
    """

    def __init__(
        self, number: int, entry: Entry, digest: str, book: Logbook, source: str = ""
    ) -> None:
        self.number = number
        self.source = source
        self.entry = entry
        self.digest = digest
        self._book = book

    def of(self, name: str | None, mac: str | None, body: Mapping[str, Any]) -> Numbered | None:
        """The entry as far as it is about a device, by its name or MAC; None when it is not.

        ``body`` is what it holds.
        """
        entry = self.entry
        if (name and entry.name == name) or (mac and entry.mac == mac):
            return self
        said = said_of(Part(body), name, mac)
        if not said:
            return None
        told = replace(entry, summary=said)
        return Numbered(self.number, told, self.digest, self._book, self.source)

    @property
    def body(self) -> Mapping[str, Any]:
        """The whole body of an entry."""
        return self._book.content(self.digest)

    @property
    def whole(self) -> Entry:
        """The entry with what it holds."""
        return replace(self.entry, body=self.body)

    @property
    def text(self) -> str:
        """The same as the JSON that it is written as, "" for a damaged one."""
        return self._book.text(self.digest)


@dataclass(frozen=True, slots=True)
class Extent:
    """How far a file goes, and the first line at which it is damaged, or None."""

    chain: Chain
    broken_at: int | None


class Logbook:
    """A site's logbook, up to now; ``anew`` is made of all its lines. Raises NotPossibleHere."""

    def __init__(self, site: Path | None, anew: bool = False) -> None:
        self.folder = logbook_folder(site)
        try:
            take_over(site)
            self._cache = Cache(site, anew)
            self.damage = self.ask(damage_of)
        except (OSError, OperationalError) as error:
            reason = error.strerror if isinstance(error, OSError) else str(error.orig)
            raise NotPossibleHere(f"{self.folder}: the logbook cannot be used: {reason}") from None
        if harmful := [each for each in self.damage if each.damage.kind not in HARMLESS]:
            tell(self.folder, harmful)

    def extents(self) -> dict[str, Extent]:
        """How far each file goes, by its source, and from which line on it is damaged."""
        broken: dict[str, int] = {}
        for each in self.damage:
            if each.damage.kind in BROKEN:
                broken.setdefault(each.source, each.damage.line)
        chains = self.ask(extents_of)
        return {source: Extent(chain, broken.get(source)) for source, chain in chains.items()}

    def make_anew(self) -> None:
        """Have the database made of the lines again, whatever it says."""
        self._cache.make_anew()

    def ask(self, question: Callable[[sql.Connection], T]) -> T:
        """Ask the database; once more when it turns out to be damaged, since the lines have all."""
        try:
            with self._cache.engine.connect() as connection:
                return question(connection)
        except OperationalError:
            raise
        except DatabaseError:
            self._cache.make_anew()
            with self._cache.engine.connect() as connection:
                return question(connection)

    def entries(
        self,
        kinds: Sequence[Kind] = (),
        since: datetime | None = None,
        until: datetime | None = None,
        macs: Collection[str] = (),
        numbered: bool = False,
    ) -> list[Numbered]:
        """The entries, oldest first, of some kinds, a time, and devices that they are about.

        ``numbered`` ones have their places among all in order of time, the same on every laptop
        that has the same entries; the others have 0, and come sooner, since not all are counted. Of
        one moment, what was written first comes first.
        """
        chosen: list[sql.ColumnElement[bool]] = []
        if kinds:
            chosen.append(ENTRIES.c.kind.in_([each.value for each in kinds]))
        if since is not None:
            chosen.append(ENTRIES.c.at >= _text(since))
        if until is not None:
            chosen.append(ENTRIES.c.at < _text(until))
        if macs:
            chosen.append(ENTRIES.c.mac.in_(macs))
        wanted = sql.select(ENTRIES, sql.literal(0).label("place"))
        if numbered:
            ordered = sql.func.row_number().over(order_by=IN_ORDER)
            places = sql.select(ENTRIES.c.number, ordered.label("place")).subquery()
            wanted = sql.select(ENTRIES, places.c.place)
            wanted = wanted.join(places, places.c.number == ENTRIES.c.number)
        wanted = wanted.where(*chosen).order_by(*IN_ORDER)
        rows = self.ask(lambda asked: asked.execute(wanted).mappings().all())
        return [each for row in rows if (each := self._numbered(row, row["place"])) is not None]

    def _numbered(self, row: sql.RowMapping, place: int) -> Numbered | None:
        entry = read_entry({**row, "body": {}})
        if entry is None:
            return None
        if row["misdated"]:
            entry = replace(entry, misdated=True)
        return Numbered(place, entry, row["content"], self, row["source"])

    def of_the_state(self) -> list[Numbered]:
        """The entries, oldest first, that the state of a site rests on (``core.record.marks``).

        Without those that a wrong clock dated. Their numbers are 0.
        """
        meant = sql.select(LATEST.c.uid).distinct()
        wanted = sql.select(ENTRIES).where(ENTRIES.c.uid.in_(meant)).order_by(*IN_ORDER)
        rows = self.ask(lambda asked: asked.execute(wanted).mappings().all())
        return [each for row in rows if (each := self._numbered(row, 0)) is not None]

    def with_bodies(
        self, chosen: Sequence[Numbered]
    ) -> Iterator[tuple[Numbered, Mapping[str, Any]]]:
        """Entries with what they hold; what several hold is unpacked once, where they follow."""
        for start in range(0, len(chosen), _READ_AT_ONCE):
            part = chosen[start : start + _READ_AT_ONCE]
            packed = dict(self.contents({each.digest for each in part}))
            last, body = "", {}
            for each in part:
                if each.digest != last:
                    last = each.digest
                    body = unpacked(packed.get(last, b""), last) or {}
                yield each, body

    def contents(self, digests: Collection[str]) -> Iterator[tuple[str, bytes]]:
        """What entries hold, packed, by their digests."""
        wanted = sql.select(CONTENTS).where(CONTENTS.c.digest.in_(digests))
        for row in self.ask(lambda asked: asked.execute(wanted).all()):
            yield row.digest, row.data

    def content(self, digest: str) -> Mapping[str, Any]:
        """The body of an entry."""
        return an_object(self.text(digest)) or {}

    def text(self, digest: str) -> str:
        """The body of an entry as it is written, "" for a damaged one."""
        wanted = sql.select(CONTENTS.c.data).where(CONTENTS.c.digest == digest)
        data = self.ask(lambda asked: asked.execute(wanted).scalar_one_or_none())
        return inflated(data or b"", digest)


def _text(at: datetime) -> str:
    return at.astimezone(UTC).isoformat(timespec="milliseconds")
