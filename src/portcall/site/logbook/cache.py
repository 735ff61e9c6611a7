"""The database that is made of a logbook's lines, so that they need not be read each time.

It holds nothing that the lines do not have, and can be thrown away. It is brought up to date by
whoever reads the logbook and may write there; whoever may not has one in memory. A file is read
from where it was read last, if its last known line is still there; otherwise all is read anew.
"""

from __future__ import annotations

import os
import sqlite3
import time
import zlib
from collections.abc import Iterable, Mapping
from contextlib import closing, suppress
from dataclasses import dataclass, fields
from datetime import datetime
from hashlib import sha256
from pathlib import Path
from typing import Any

import sqlalchemy as sql
from sqlalchemy.dialects.sqlite import insert
from sqlalchemy.exc import DatabaseError, OperationalError
from sqlalchemy.pool import NullPool, StaticPool

from portcall.core.document import parsed
from portcall.core.record.chain import Chain, Damage, DamageKind, digest_of
from portcall.core.record.clocks import TOLERANCE, misdated
from portcall.core.record.entry import Entry
from portcall.site.logbook.folder import (
    CACHE,
    HEADER,
    Source,
    chain_files,
    identities,
    logbook_folder,
)
from portcall.site.logbook.reading import entry_of, holds_of, is_copied
from portcall.site.logbook.writing import SHORT
from portcall.system import as_caller

SHAPE = 2
"""Of the tables; one of another shape is made anew."""

_AT_ONCE = 500
_OCTETS_AT_ONCE = 4 * 1024 * 1024
_BUSY_S = 10.0
_TO_WRITE = "to_write"

META = sql.MetaData()
ENTRIES = sql.Table(
    "entries",
    META,
    sql.Column("number", sql.Integer, primary_key=True),
    sql.Column("uid", sql.Text, nullable=False, unique=True),
    sql.Column("at", sql.Text, nullable=False),
    sql.Column("offset", sql.Integer, nullable=False),
    sql.Column("kind", sql.Text, nullable=False),
    sql.Column("workstation", sql.Text, nullable=False),
    sql.Column("person", sql.Text, nullable=False),
    sql.Column("command", sql.Text, nullable=False),
    sql.Column("adapter", sql.Text, nullable=False),
    sql.Column("name", sql.Text, nullable=False, index=True),
    sql.Column("mac", sql.Text, nullable=False, index=True),
    sql.Column("address", sql.Text, nullable=False),
    sql.Column("summary", sql.Text, nullable=False),
    sql.Column("boot", sql.Text, nullable=False, default=""),
    sql.Column("uptime", sql.Float, nullable=False, default=0.0),
    sql.Column("content", sql.Text, nullable=False),
    sql.Column("misdated", sql.Boolean, nullable=False, default=False),
    sql.Column("copied", sql.Boolean, nullable=False),
    sql.Column("source", sql.Text, nullable=False),
    sql.Column("line", sql.Integer, nullable=False),
)
IN_ORDER = (ENTRIES.c.at, ENTRIES.c.line, ENTRIES.c.uid)
"""Their order in time: the same on every laptop that has the same entries."""
sql.Index("in_order", *IN_ORDER)
sql.Index("of_a_kind", ENTRIES.c.kind, ENTRIES.c.at)
CONTENTS = sql.Table(
    "contents",
    META,
    sql.Column("digest", sql.Text, primary_key=True),
    sql.Column("data", sql.LargeBinary, nullable=False),
)
WHOLE = sql.Table(
    "whole",
    META,
    sql.Column("source", sql.Text, primary_key=True),
    sql.Column("digest", sql.Text, primary_key=True),
    sql.Column("line", sql.Integer, nullable=False),
)
"""Which line of a workstation's file has what an entry holds in full."""

FILES = sql.Table(
    "files",
    META,
    sql.Column("source", sql.Text, primary_key=True),
    sql.Column("file", sql.Text, nullable=False),
    sql.Column("octets", sql.Integer, nullable=False),
    sql.Column("last", sql.Integer, nullable=False),
    sql.Column("size", sql.Integer, nullable=False),
    sql.Column("changed", sql.Integer, nullable=False),
    sql.Column("lines", sql.Integer, nullable=False),
    sql.Column("number", sql.Integer, nullable=False),
    sql.Column("head", sql.Text, nullable=False),
    sql.Column("unread", sql.Boolean, nullable=False),
    sql.Column("starts_late", sql.Boolean, nullable=False),
    sql.Column("latest", sql.Float, nullable=False),
)
"""How far each file was read: octets, where its last line begins, its size and when it was changed,
the state of its chain, and the latest time in it."""

DAMAGE = sql.Table(
    "damage",
    META,
    sql.Column("source", sql.Text, nullable=False),
    sql.Column("kind", sql.Text, nullable=False),
    sql.Column("line", sql.Integer, nullable=False),
    sql.Column("many", sql.Integer, nullable=False),
)
GONE = sql.Table(
    "gone",
    META,
    sql.Column("uid", sql.Text, primary_key=True),
    sql.Column("source", sql.Text, nullable=False),
    sql.Column("line", sql.Integer, nullable=False),
)
"""Entries that were read here before, and that no line has any more."""


@dataclass(frozen=True, slots=True)
class Damaged:
    """What is wrong in a file of the logbook; ``file`` is what that is called in its folder."""

    source: str
    file: str
    damage: Damage

    def __str__(self) -> str:
        return f"{self.file}: {self.damage.sentence}"


class Cache:
    """The database of a logbook, up to now. Raises OSError, OperationalError.

    ``is_kept`` is whether it is the one in the logbook's folder, and ``was_damaged`` whether that
    had to be made anew.
    """

    def __init__(self, site: Path | None, anew: bool = False) -> None:
        self._site = site
        self._path = logbook_folder(site) / CACHE
        self.was_damaged = False
        self.is_kept = False
        self.engine = filled_in_memory(site) if anew else self._opened()

    def make_anew(self) -> None:
        """Throw it away, and make it of the lines: a page of it turned out to be damaged."""
        self.engine.dispose()
        self.was_damaged = True
        with suppress(OSError), as_caller(self._path):
            self._throw_away()
        self.engine = self._opened()

    def _opened(self) -> sql.Engine:
        files = chain_files(self._site)
        try:
            if self._path.exists():
                engine = _engine(self._path, "ro")
                if _has_all(engine, files):
                    self.is_kept = True
                    return engine
                engine.dispose()
            if files:
                with as_caller(self._path):
                    self._bring_up_to_date(files)
                self.is_kept = True
                return _engine(self._path, "ro")
        except (OSError, OperationalError):
            # A full disk, an archive, a colleague's folder: what can be read is read all the same.
            pass
        except DatabaseError:
            if self.was_damaged:
                raise
            self.was_damaged = True
            with suppress(OSError), as_caller(self._path):
                self._throw_away()
            return self._opened()
        self.is_kept = False
        engine = self._in_memory()
        Filling(self._site, engine).take_in(files)
        return engine

    def _bring_up_to_date(self, files: Mapping[Source, Path]) -> None:
        engine = _engine(self._path, "rwc")
        try:
            if _shape(engine) not in (0, SHAPE):
                engine.dispose()
                self._throw_away()
                engine = _engine(self._path, "rwc")
            Filling(self._site, engine).take_in(files)
        finally:
            engine.dispose()

    def _throw_away(self) -> None:
        for ending in ("-journal", "-wal", "-shm", ""):
            with suppress(FileNotFoundError):
                os.unlink(f"{self._path}{ending}")

    def _in_memory(self) -> sql.Engine:
        """The kept one copied, as far as there is one, so that only what is new is read."""
        memory = sqlite3.connect(":memory:", check_same_thread=False)
        with suppress(sqlite3.Error), closing(_connected(self._path, "ro&immutable=1")) as kept:
            if kept.execute("PRAGMA user_version").fetchone()[0] == SHAPE:
                kept.backup(memory)
        return _in(memory)


def _connected(path: Path, mode: str) -> sqlite3.Connection:
    # An address, since what stands in a folder's name is meant as it is.
    address = f"{path.absolute().as_uri()}?mode={mode}"
    return sqlite3.connect(address, uri=True, timeout=_BUSY_S, check_same_thread=False)


def _engine(path: Path, mode: str) -> sql.Engine:
    def connected() -> sqlite3.Connection:
        return _connected(path, mode)

    engine = sql.create_engine("sqlite://", creator=connected, poolclass=NullPool)
    return _with_transactions(engine)


def _in(memory: sqlite3.Connection) -> sql.Engine:
    engine = sql.create_engine("sqlite://", creator=lambda: memory, poolclass=StaticPool)
    return _with_transactions(engine)


def filled_in_memory(site: Path | None) -> sql.Engine:
    """A database made of all lines of a logbook, whatever was read before. Raises OSError."""
    engine = _in(sqlite3.connect(":memory:", check_same_thread=False))
    Filling(site, engine).take_in(chain_files(site))
    return engine


def _with_transactions(engine: sql.Engine) -> sql.Engine:
    """Transactions that begin where SQLAlchemy says so, and not where the driver thinks so."""

    def connected(connection: sqlite3.Connection, _: object) -> None:
        connection.isolation_level = None

    def begun(connection: sql.Connection) -> None:
        waits = connection.get_execution_options().get(_TO_WRITE)
        connection.exec_driver_sql("BEGIN IMMEDIATE" if waits else "BEGIN")

    sql.event.listen(engine, "connect", connected)
    sql.event.listen(engine, "begin", begun)
    return engine


def _shape(engine: sql.Engine) -> int:
    with engine.connect() as connection:
        return int(connection.execute(sql.text("PRAGMA user_version")).scalar_one())


def _has_all(engine: sql.Engine, files: Mapping[Source, Path]) -> bool:
    """Whether a database is of this shape, and no file changed since it was made."""
    if _shape(engine) != SHAPE:
        return False
    with engine.connect() as connection:
        known = {row.source: row for row in connection.execute(sql.select(FILES))}
    if set(known) != set(map(str, files)):
        return False
    for source, path in files.items():
        told, row = path.stat(), known[str(source)]
        if (told.st_size, told.st_mtime_ns) != (row.size, row.changed):
            return False
    return True


class Filling:
    """Taking lines into a database, in one transaction."""

    def __init__(self, site: Path | None, engine: sql.Engine) -> None:
        self._engine = engine.execution_options(**{_TO_WRITE: True})
        self._identities = identities(site)
        self._now = time.time()

    def take_in(self, files: Mapping[Source, Path]) -> None:
        """Read what is new in each file; all of every file where one is not as it was."""
        with self._engine.begin() as self._connection:
            META.create_all(self._connection)
            self._connection.exec_driver_sql(f"PRAGMA user_version = {SHAPE}")
            rows = self._connection.execute(sql.select(FILES)).mappings()
            known = {str(row["source"]): dict(row) for row in rows}
            names = set(map(str, files))
            if set(known) <= names and all(
                _goes_on(path, known.get(str(source))) for source, path in files.items()
            ):
                for source, path in files.items():
                    self._read(source, path, known.get(str(source)))
            else:
                self._all_anew(files)
            self._back_again()

    def _all_anew(self, files: Mapping[Source, Path]) -> None:
        columns = (ENTRIES.c.uid, ENTRIES.c.source, ENTRIES.c.line)
        were = {row.uid: row._asdict() for row in self._connection.execute(sql.select(*columns))}
        for table in (ENTRIES, CONTENTS, WHOLE, FILES, DAMAGE):
            self._connection.execute(sql.delete(table))
        for source, path in files.items():
            self._read(source, path, None)
        are = set(self._connection.execute(sql.select(ENTRIES.c.uid)).scalars())
        gone = [row for uid, row in were.items() if uid not in are]
        if gone:
            self._connection.execute(insert(GONE).on_conflict_do_nothing(), gone)

    def _back_again(self) -> None:
        back = sql.select(ENTRIES.c.uid).where(ENTRIES.c.uid == GONE.c.uid).exists()
        self._connection.execute(sql.delete(GONE).where(back))

    def _read(self, source: Source, path: Path, known: Mapping[str, Any] | None) -> None:
        """Take in the lines of a file from where it was read last."""
        chain, octets, latest = Chain(), 0, float("-inf")
        if known is not None:
            chain = Chain(*(known[each.name] for each in fields(Chain)))
            octets, latest = known["octets"], known["latest"]
        told = path.stat()
        batch = _Batch(source, chain.lines)
        last, is_ours, disorder = known["last"] if known is not None else 0, True, False
        with open(path, "rb") as file:
            file.seek(octets)
            for raw in file:
                if not raw.endswith(b"\n"):
                    break
                line, last = raw[:-1], octets
                octets += len(raw)
                contents = parsed(line)
                is_object = isinstance(contents, dict) or not line.strip()
                self._damaged(source, chain.take(line, is_object))
                if isinstance(contents, dict) and contents.get("format") == HEADER:
                    is_ours = not self._identities or contents.get("site") in self._identities
                    if not is_ours:
                        self._damaged(source, [Damage(DamageKind.OF_ANOTHER_SITE, chain.lines)])
                        octets = told.st_size
                        break
                    continue
                entry = entry_of(source, line, contents) if isinstance(contents, dict) else None
                if entry is None:
                    if is_object and line.strip() and not chain.starts_late:
                        self._damaged(source, [Damage(DamageKind.NEWER, chain.lines)])
                    continue
                copied = is_copied(contents)
                at = entry.at.timestamp()
                if not copied:
                    disorder = disorder or at < latest - TOLERANCE
                    latest = max(latest, at)
                disorder = disorder or at > self._now + TOLERANCE
                batch.add(chain.lines, entry, contents, copied)
                if batch.is_full:
                    self._add(batch)
        self._add(batch)
        state = {each.name: getattr(chain, each.name) for each in fields(Chain)}
        row = {
            "source": str(source),
            "file": path.name,
            "octets": octets,
            "last": last,
            "size": told.st_size,
            "changed": told.st_mtime_ns,
            "latest": max(latest, 0.0),
            **state,
        }
        new = insert(FILES).values(row)
        self._connection.execute(new.on_conflict_do_update(index_elements=["source"], set_=row))
        if disorder:
            self._judge_clock(source)

    def _damaged(self, source: Source, found: Iterable[Damage]) -> None:
        rows = [_damage_row(str(source), each) for each in found]
        if rows:
            self._connection.execute(sql.insert(DAMAGE), rows)

    def _add(self, batch: _Batch) -> None:
        uids = [row["uid"] for row in batch.rows]
        if not uids:
            return
        known = sql.select(ENTRIES.c.uid, *(ENTRIES.c[name] for name in _SAME)).where(
            ENTRIES.c.uid.in_(uids)
        )
        before = {row.uid: row._asdict() for row in self._connection.execute(known)}
        for row in batch.rows:
            there = before.get(row["uid"])
            if there is not None and any(row[name] != there[name] for name in _SAME):
                self._damaged_row(row)
            before.setdefault(row["uid"], row)
        self._connection.execute(insert(ENTRIES).on_conflict_do_nothing(), batch.rows)
        for table, rows in ((CONTENTS, batch.contents), (WHOLE, batch.whole)):
            if rows:
                self._connection.execute(insert(table).on_conflict_do_nothing(), rows)
        batch.clear()

    def _damaged_row(self, row: Mapping[str, Any]) -> None:
        told = _damage_row(row["source"], Damage(DamageKind.OTHERWISE, row["line"]))
        self._connection.execute(sql.insert(DAMAGE), [told])

    def _judge_clock(self, source: Source) -> None:
        """Mark the entries of a file that a wrong clock has dated."""
        wanted = (
            sql.select(ENTRIES.c.number, ENTRIES.c.at, ENTRIES.c.misdated)
            .where(ENTRIES.c.source == str(source), ENTRIES.c.copied.is_(False))
            .order_by(ENTRIES.c.line)
        )
        rows = self._connection.execute(wanted).all()
        times = [datetime.fromisoformat(row.at).timestamp() for row in rows]
        for row, wrong in zip(rows, misdated(times, self._now), strict=True):
            if wrong != row.misdated:
                self._connection.execute(
                    sql.update(ENTRIES).where(ENTRIES.c.number == row.number).values(misdated=wrong)
                )


_SAME = ("at", "kind", "content", "summary", "name", "mac", "address")
"""What an entry says, wherever it is copied to."""


class _Batch:
    """Entries that are taken in at once."""

    def __init__(self, source: Source, start: int) -> None:
        self._source = source
        self.clear()

    def clear(self) -> None:
        self.rows: list[dict[str, Any]] = []
        self.contents: list[dict[str, Any]] = []
        self.whole: list[dict[str, Any]] = []
        self._octets = 0

    @property
    def is_full(self) -> bool:
        return len(self.rows) >= _AT_ONCE or self._octets > _OCTETS_AT_ONCE

    def add(self, line: int, entry: Entry, contents: Any, copied: bool) -> None:
        document = entry.document
        del document["body"]
        digest = holds_of(contents)
        if not digest:
            data = entry.body_text.encode()
            digest = sha256(data).hexdigest()
            self._octets += len(data)
            self.contents.append({"digest": digest, "data": zlib.compress(data)})
            if not self._source.record and len(data) > SHORT:
                row = {"source": str(self._source), "digest": digest, "line": line}
                self.whole.append(row)
        self.rows.append(
            {
                "boot": "",
                "uptime": 0.0,
                **document,
                "content": digest,
                "source": str(self._source),
                "line": line,
                "copied": copied,
            }
        )


def _damage_row(source: str, told: Damage) -> dict[str, Any]:
    return {"source": source, "kind": told.kind.value, "line": told.line, "many": told.count}


def _goes_on(path: Path, known: Mapping[str, Any] | None) -> bool:
    """Whether a file is as it was, but for lines that were added to it."""
    if known is None:
        return True
    told = path.stat()
    if (told.st_size, told.st_mtime_ns) == (known["size"], known["changed"]):
        return True
    if told.st_size < known["octets"] or told.st_size == known["size"]:
        return False
    if not known["octets"]:
        return True
    with open(path, "rb") as file:
        file.seek(known["last"])
        line = file.read(known["octets"] - known["last"])
    return line.endswith(b"\n") and digest_of(line[:-1]) == known["head"]


def damage_of(connection: sql.Connection) -> list[Damaged]:
    """All that was found wrong in the files, in their order; newer lines of a file together."""
    files = {row.source: row.file for row in connection.execute(sql.select(FILES))}
    found: list[Damaged] = []
    newer: dict[str, list[int]] = {}

    def add(source: str, damage: Damage) -> None:
        found.append(Damaged(source, files.get(source, f"{source}.jsonl"), damage))

    for row in connection.execute(sql.select(DAMAGE).order_by(DAMAGE.c.source, DAMAGE.c.line)):
        if row.kind == DamageKind.NEWER:
            newer.setdefault(row.source, []).append(row.line)
        else:
            add(row.source, Damage(DamageKind(row.kind), row.line, row.many))
    for source, lines in newer.items():
        add(source, Damage(DamageKind.NEWER, lines[0], len(lines)))
    for row in connection.execute(sql.select(FILES).where(FILES.c.unread)):
        add(row.source, Damage(DamageKind.UNREADABLE, row.lines))
    lost = (GONE.c.source, sql.func.min(GONE.c.line), sql.func.count())
    for source, line, count in connection.execute(sql.select(*lost).group_by(GONE.c.source)):
        add(source, Damage(DamageKind.GONE, line, count))
    return sorted(found, key=lambda each: (each.source, each.damage.line))


def extents_of(connection: sql.Connection) -> dict[str, Chain]:
    """How far each file was read."""
    rows = connection.execute(sql.select(FILES)).mappings()
    return {row["source"]: Chain(*(row[each.name] for each in fields(Chain))) for row in rows}
