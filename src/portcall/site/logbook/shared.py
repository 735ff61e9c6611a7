"""The logbook of a team: a PostgreSQL database, which several laptops copy lines to and from.

What is copied are lines as they were written, in their order. So either side is checked by the same
chain (``core.record.chain``): whether both have the same is told by the last line that both have,
and lines that do not follow are not taken. Copying may be broken off at any point and begun again
any number of times, from any number of laptops, and nothing is there twice or half. Nobody waits
for it: each laptop's own logbook is whole by itself.

Needs psycopg, which is loaded when something is copied.
"""

from __future__ import annotations

import os
from collections.abc import Collection, Iterator, Mapping
from copy import copy
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from itertools import islice
from pathlib import Path

import sqlalchemy as sql
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.exc import DBAPIError, NoSuchModuleError

from portcall.core.counted import counted
from portcall.core.document import Part, a_text, parsed
from portcall.core.printable import printable
from portcall.core.record.chain import HARMLESS, Chain, DamageKind, digest_of
from portcall.core.trouble import BadInput, NotPossibleHere
from portcall.site.logbook.chain_file import add_raw, line_at
from portcall.site.logbook.folder import (
    ENTRIES,
    Source,
    chain_files,
    logbook_folder,
    made_identity,
    site_identity,
    source_named,
    take_identity,
    this_workstation,
)
from portcall.site.logbook.shared_address import shown_address
from portcall.site.logbook.store import Extent, Logbook
from portcall.system import as_caller

_META = sql.MetaData()
_SITES = sql.Table(
    "portcall_sites",
    _META,
    sql.Column("identity", sql.Text, primary_key=True),
    sql.Column("name", sql.Text, nullable=False),
    sql.Column("made", sql.Text, nullable=False),
)
_LINES = sql.Table(
    "portcall_lines",
    _META,
    sql.Column("site", sql.Text, primary_key=True),
    sql.Column("source", sql.Text, primary_key=True),
    sql.Column("number", sql.Integer, primary_key=True),
    sql.Column("digest", sql.Text, nullable=False),
    sql.Column("line", sql.LargeBinary, nullable=False),
)
_EARLIER = sql.table("portcall_entries", sql.column("site"))
"""Where an earlier version shared entries, under the name of the site alone."""

NEW = "new"
"""Says that a site is another one than that of the same name in the shared logbook."""

_AT_ONCE = 200
_CONNECT_SECONDS = 5


@dataclass(frozen=True, slots=True)
class Synced:
    """How many lines were copied there, and from there, and what is to be known, in sentences."""

    sent: int
    received: int
    told: tuple[str, ...] = ()

    def __str__(self) -> str:
        return f"{counted(self.sent, 'line')} sent, {self.received:,} received"


def sync(site: Path, name: str, url: sql.URL, join: str = "") -> Synced:
    """Copy both ways the lines that the other side does not have. Raises BadInput, NotPossibleHere.

    ``name`` is what the site is called. A site that the shared logbook does not know yet begins
    there, unless one of the same name is there already: then ``join`` says which that is, by its
    identity, or that this is ``NEW``.
    """
    place = shown_address(url)
    try:
        engine = sql.create_engine(url, connect_args={"connect_timeout": _CONNECT_SECONDS})
        try:
            with engine.begin() as connection:
                _META.create_all(connection)
                is_new = site_identity(site) not in _known(connection)
                identity = _identity(connection, site, name, join)
                told = list(_of_before(connection, name)) if is_new else []
            return _Copying(engine, site, identity, told).run()
        finally:
            engine.dispose()
    except (ImportError, NoSuchModuleError):
        raise NotPossibleHere(
            "a shared logbook needs psycopg: pip install 'portcall[team]'"
        ) from None
    except DBAPIError as error:
        reason = printable(
            str(error.orig).splitlines()[0] if str(error.orig) else "no reason given"
        )
        raise NotPossibleHere(
            f"{place}: {reason}", "the logbook here is whole, and what was copied stays: sync later"
        ) from None
    except OSError as error:
        raise NotPossibleHere(f"{logbook_folder(site)}: {error.strerror}") from None


def _known(connection: sql.Connection) -> set[str]:
    return set(connection.execute(sql.select(_SITES.c.identity)).scalars())


def _of_before(connection: sql.Connection, name: str) -> Iterator[str]:
    """What an earlier version shared, by the name of a site alone: nobody can tell whose it is."""
    if not sql.inspect(connection).has_table(_EARLIER.name):
        return
    wanted = sql.select(sql.func.count()).where(_EARLIER.c.site == name)
    count = connection.execute(wanted).scalar_one()
    if count:
        yield (
            f"an earlier version shared {counted(count, 'entry', 'entries')} under this name: they "
            "stay there and are not read; each laptop that wrote some brings its own"
        )


def _identity(connection: sql.Connection, site: Path, name: str, join: str) -> str:
    """What this site is known by in the shared logbook, where it is entered now if need be."""
    rows = connection.execute(sql.select(_SITES)).all()
    there = {row.identity: row.name for row in rows}
    mine = site_identity(site)
    if mine in there:
        if there[mine] != name:
            renamed = sql.update(_SITES).where(_SITES.c.identity == mine).values(name=name)
            connection.execute(renamed)
        return str(mine)
    namesakes = [row for row in rows if row.name == name]
    if join and join != NEW:
        meant = [row.identity for row in rows if row.identity.startswith(join.lower())]
        if len(meant) != 1:
            which = "no site there" if not meant else "more than one site there"
            raise BadInput(f"{printable(join, 40)}: begins the identity of {which}")
        return take_identity(site, meant[0])
    if namesakes and join != NEW:
        told = " and ".join(f"{row.identity[:8]}, begun {row.made[:10]}" for row in namesakes)
        first = namesakes[0].identity[:8]
        raise BadInput(
            f"the shared logbook has a site called {printable(name, 60)} already ({told}), and "
            "only you know whether it is this one",
            f"portcall logbook sync --same-as {first}, or --new for another site of that name",
        )
    mine = made_identity(site)
    now = datetime.now(UTC).isoformat(timespec="seconds")
    connection.execute(insert(_SITES).values(identity=mine, name=name, made=now))
    return mine


class _Copying:
    """One copying of lines, source by source."""

    def __init__(self, engine: sql.Engine, site: Path, identity: str, told: list[str]) -> None:
        self._engine = engine
        self._site = site
        self._folder = logbook_folder(site) / ENTRIES
        self._of_site = _LINES.c.site == identity
        self._identity = identity
        self._sent = self._received = 0
        self._told = told

    def run(self) -> Synced:
        there = self._there()
        self._mend(there)
        book = Logbook(self._site)
        here = book.extents()
        files = chain_files(self._site)
        strangers = {
            each.source for each in book.damage if each.damage.kind is DamageKind.OF_ANOTHER_SITE
        }
        matched: set[Source] = set()
        for source, path in files.items():
            extent = here.get(str(source))
            if extent is None or not extent.chain.lines or str(source) in strangers:
                continue
            other = self._counterpart(source, path, extent, there, matched)
            matched.add(other)
            self._copy(source, other, path, extent, there.get(other, 0))
        for other in sorted(set(there) - matched):
            self._fetch(other, self._folder / other.file, Chain(), there[other])
        return Synced(self._sent, self._received, tuple(self._told))

    def _there(self) -> dict[Source, int]:
        """How many lines of each source the shared logbook has."""
        wanted = (
            sql.select(_LINES.c.source, sql.func.max(_LINES.c.number))
            .where(self._of_site)
            .group_by(_LINES.c.source)
        )
        with self._engine.connect() as connection:
            rows = connection.execute(wanted).all()
        named = ((source_named(name), count) for name, count in rows)
        return {source: count for source, count in named if source is not None}

    def _counterpart(
        self,
        source: Source,
        path: Path,
        extent: Extent,
        there: Mapping[Source, int],
        matched: Collection[Source],
    ) -> Source:
        """Which source there has the same lines, as far as both go; a new one where none has."""
        about = (source.workstation, source.record)
        same = [each for each in there if (each.workstation, each.record) == about]
        for other in sorted(same, key=lambda each: (each != source, each)):
            if other not in matched and self._agree(path, extent, other, there[other]):
                return other
        known = (*same, *matched)
        taken = {each.fork for each in known if (each.workstation, each.record) == about}
        if source.fork not in taken:
            return source
        fork = replace(source, fork=max(taken) + 1)
        self._told.append(
            f"{path.name}: goes on otherwise here than in the shared logbook, as when a backup was "
            "put back, a copy of the folder was used, or a line was changed: both are kept, this "
            f"one as {fork}"
        )
        return fork

    def _agree(self, path: Path, extent: Extent, other: Source, count: int) -> bool:
        """Whether both have the same at the last line that both have."""
        both = min(extent.chain.lines, count)
        mine = extent.chain.head if both == extent.chain.lines else digest_of(line_at(path, both))
        where = (self._of_site, _LINES.c.source == str(other), _LINES.c.number == both)
        with self._engine.connect() as connection:
            digest = connection.execute(sql.select(_LINES.c.digest).where(*where)).scalar()
        return bool(mine == digest)

    def _copy(self, source: Source, other: Source, path: Path, extent: Extent, count: int) -> None:
        if other != source and path.parent == self._folder:
            with as_caller(path):
                os.replace(path, path.with_name(other.file))
            path = path.with_name(other.file)
        if count > extent.chain.lines:
            is_own = source.workstation == this_workstation()
            before = self._received
            self._fetch(other, path, extent.chain, count)
            if is_own and self._received > before:
                lines = counted(self._received - before, "line")
                self._told.append(f"{path.name}: {lines} that this computer wrote came back")
        elif extent.chain.lines > count:
            self._send(other, path, extent, count)

    def _mend(self, there: Mapping[Source, int]) -> None:
        """Put the damaged files right that the shared logbook has whole."""
        here = Logbook(self._site).extents()
        for source, path in chain_files(self._site).items():
            extent = here.get(str(source))
            broken_at = None if extent is None else extent.broken_at
            if broken_at is None:
                continue
            for other in sorted(there, key=lambda each: (each != source, each)):
                is_same = (other.workstation, other.record) == (source.workstation, source.record)
                has_it = is_same and there[other] >= broken_at
                if has_it and self._put_right(other, path, broken_at):
                    break

    def _put_right(self, other: Source, path: Path, broken_at: int) -> bool:
        """Have a damaged file as the shared logbook has it, if that has it whole.

        Lines here that follow behind those are kept; so is the damaged file, under another name.
        What goes on otherwise there behind the damage is another file's.
        """
        with open(path, "rb") as file:
            here = [raw.removesuffix(b"\n") for raw in file if raw.endswith(b"\n")]
        there = [line for batch in self._batches(other, 0) for _, line in batch]
        whole, chain = there + here[len(there) :], Chain()
        harmful = [
            each
            for line in whole
            for each in chain.take(line, isinstance(parsed(line), dict) or not line.strip())
            if each.kind not in HARMLESS
        ]
        if harmful or here[: broken_at - 1] != there[: broken_at - 1]:
            return False
        both = min(len(here), len(there))
        follows = len(here) > len(there) or both == broken_at
        if not follows and here[:both][-1:] != there[:both][-1:]:
            return False
        now = datetime.now(UTC).strftime("%Y%m%dT%H%M%S.%fZ")
        aside = path.with_name(f"{path.name}.damaged-{now}")
        with as_caller(path):
            os.replace(path, aside)
        if not add_raw(path, whole, 0):
            raise OSError(0, f"{path.name}: was written meanwhile: sync once more")
        self._told.append(
            f"{path.name}: line {broken_at} was damaged; the shared logbook has it as it was "
            f"written, and it is put right; the damaged file is kept as {aside.name}"
        )
        return True

    def _batches(self, other: Source, start: int) -> Iterator[list[tuple[int, bytes]]]:
        """The lines of a source behind a number, some at once, each with its number."""
        while True:
            wanted = (
                sql.select(_LINES.c.number, _LINES.c.line)
                .where(self._of_site, _LINES.c.source == str(other), _LINES.c.number > start)
                .order_by(_LINES.c.number)
                .limit(_AT_ONCE)
            )
            with self._engine.connect() as connection:
                rows = [(row.number, bytes(row.line)) for row in connection.execute(wanted)]
            if not rows:
                return
            yield rows
            start = rows[-1][0]

    def _send(self, other: Source, path: Path, extent: Extent, start: int) -> None:
        sound = extent.chain.lines if extent.broken_at is None else extent.broken_at - 1
        if sound < extent.chain.lines:
            lines = counted(extent.chain.lines - max(sound, start), "line")
            self._told.append(
                f"{path.name}: is damaged at line {extent.broken_at}: {lines} from there on were "
                "not sent"
            )
        with open(path, "rb") as file:
            lines_of = islice(file, start, sound)
            number = start
            while batch := list(islice(lines_of, _AT_ONCE)):
                rows = []
                for raw in batch:
                    number += 1
                    line = raw.rstrip(b"\n")
                    rows.append(
                        {
                            "site": self._identity,
                            "source": str(other),
                            "number": number,
                            "line": line,
                            "digest": digest_of(line),
                        }
                    )
                with self._engine.begin() as connection:
                    connection.execute(insert(_LINES).on_conflict_do_nothing(), rows)
                self._sent += len(rows)

    def _fetch(self, other: Source, path: Path, have: Chain, count: int) -> None:
        """Add the lines of a source behind those that are here, as far as they follow."""
        known, start = copy(have), have.lines
        for rows in self._batches(other, start):
            good: list[bytes] = []
            for number, line in rows:
                found = known.take(line, isinstance(parsed(line), dict) or not line.strip())
                odd = any(each.kind not in HARMLESS for each in found)
                if odd or number != start + len(good) + 1 or b"\n" in line:
                    break
                good.append(line)
            if good:
                if other.fork == 1 and not start:
                    self._allow(good[0])
                if not add_raw(path, good, start):
                    self._told.append(f"{path.name}: was written meanwhile: sync once more")
                    return
                self._received += len(good)
                start += len(good)
            if len(good) < len(rows):
                lines = counted(count - start, "line")
                self._told.append(
                    f"{other.file}: line {start + 1} of it in the shared logbook is not as it was "
                    f"written: {lines} from there on were not taken"
                )
                return

    def _allow(self, first: bytes) -> None:
        """A file of this site that was begun before its identity was shared is this site's."""
        told = Part(parsed(first)).get("site", a_text, "")
        if told and told != site_identity(self._site):
            take_identity(self._site, self._identity, also=told)
