"""The logbook: a database in the site's folder, which takes in what commands wrote down.

``logbook/logbook.db`` is SQLite. Entries are only ever added. What a look found is kept once,
however often it is found again, under a digest of it. The other records of a site (settings,
assignments, changes of the plan) are taken in as they grow; each of their lines is an entry whose
identity follows from what it says, so that reading it again adds nothing.
"""

from __future__ import annotations

import json
import os
import zlib
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from contextlib import suppress
from dataclasses import replace
from datetime import UTC, datetime
from hashlib import sha256
from pathlib import Path
from typing import Any

import sqlalchemy as sql
from sqlalchemy.dialects.sqlite import insert
from sqlalchemy.exc import DatabaseError, OperationalError

from portcall.core.document import Part, parsed
from portcall.core.record.entry import Entry, Kind, read_entry
from portcall.core.record.story import said_of
from portcall.core.trouble import NotPossibleHere
from portcall.site.files import append, make_folder, open_to_append
from portcall.site.logbook.inbox import DATABASE, INBOX, logbook_folder
from portcall.site.logbook.others import OTHERS, beginning_of, entry_of, lines_from
from portcall.site.matches import state_folder
from portcall.site.turns import alone_in
from portcall.system import as_caller

UNREAD = "unread.jsonl"
"""Lines that were written down, and that cannot be read here."""
_PATIENCE = 10.0
_AT_ONCE = 2000
_READ_AT_ONCE = 200
_LARGEST_CONTENT = 256 * 1024 * 1024

_META = sql.MetaData()
_ENTRIES = sql.Table(
    "entries",
    _META,
    sql.Column("number", sql.Integer, primary_key=True),
    sql.Column("uid", sql.Text, nullable=False, unique=True),
    sql.Column("at", sql.Text, nullable=False, index=True),
    sql.Column("offset", sql.Integer, nullable=False),
    sql.Column("kind", sql.Text, nullable=False, index=True),
    sql.Column("workstation", sql.Text, nullable=False),
    sql.Column("person", sql.Text, nullable=False),
    sql.Column("command", sql.Text, nullable=False),
    sql.Column("adapter", sql.Text, nullable=False),
    sql.Column("name", sql.Text, nullable=False, index=True),
    sql.Column("mac", sql.Text, nullable=False, index=True),
    sql.Column("address", sql.Text, nullable=False),
    sql.Column("summary", sql.Text, nullable=False),
    sql.Column("content", sql.Text, nullable=False),
)
_CONTENTS = sql.Table(
    "contents",
    _META,
    sql.Column("digest", sql.Text, primary_key=True),
    sql.Column("data", sql.LargeBinary, nullable=False),
)
_TAKEN = sql.Table(
    "taken_in",
    _META,
    sql.Column("file", sql.Text, primary_key=True),
    sql.Column("octets", sql.Integer, nullable=False),
    sql.Column("beginning", sql.Text, nullable=False),
)
"""How far other records are taken in, and how they begin: a new one begins otherwise."""


class Numbered:
    """An entry, and its number in this logbook; its body is read when it is asked for."""

    def __init__(self, number: int, entry: Entry, digest: str, book: Logbook) -> None:
        self.number = number
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
        return Numbered(self.number, replace(entry, summary=said), self.digest, self._book)

    @property
    def body(self) -> Mapping[str, Any]:
        """The whole body of an entry."""
        return self._book.content(self.digest)

    @property
    def text(self) -> str:
        """The same as the JSON that it is written as, "" for a damaged one."""
        return self._book.text(self.digest)


class Logbook:
    """A site's logbook, up to now. Raises NotPossibleHere.

    ``set_aside`` is where a damaged one was put, when that had to be done.
    """

    def __init__(self, site: Path | None) -> None:
        self._site = site
        self.folder = logbook_folder(site)
        self.set_aside: Path | None = None
        try:
            make_folder(self.folder)
            # As the person who called sudo: SQLite makes files of its own beside the database.
            with alone_in(self.folder, _PATIENCE), as_caller(self.folder / DATABASE):
                self._engine = self._opened()
                self._take_in()
        except (OSError, OperationalError) as error:
            reason = error.strerror if isinstance(error, OSError) else str(error.orig)
            raise NotPossibleHere(f"{self.folder}: the logbook cannot be used: {reason}") from None

    def _opened(self) -> sql.Engine:
        path = self.folder / DATABASE
        # A path is no address: what stands in its name is meant as it is.
        engine = sql.create_engine(sql.URL.create("sqlite", database=str(path)))
        sql.event.listen(engine, "connect", _flush_always)
        try:
            _META.create_all(engine)
            with engine.connect() as connection:
                told = connection.execute(sql.text("PRAGMA quick_check(1)")).scalar_one()
        except OperationalError:
            raise
        except DatabaseError as error:
            told = str(error.orig)
        if told != "ok":
            engine.dispose()
            self.set_aside = _put_aside(path)
            return self._opened()
        return engine

    def _take_in(self) -> None:
        """Take in what was written down since: it is in the database before it is dropped there."""
        inbox = self.folder / INBOX
        lines = lines_from(inbox, 0)
        read = [(line, read_entry(said)) for line, said in lines]
        folder = self._site or state_folder()
        with self._engine.begin() as connection:
            new = [entry for _, entry in read if entry is not None]
            for name, kind in OTHERS.items():
                new += self._older(connection, folder / name, kind)
            # What several records have of one hour is numbered in the order in which it was.
            self._add(connection, sorted(new, key=lambda entry: entry.at))
        unread = [line for line, entry in read if entry is None and line.strip()]
        if unread:
            # A newer version wrote it, or a crash cut it: nobody here can say that it is nothing.
            with open_to_append(self.folder / UNREAD) as file:
                append(file, b"\n".join(unread) + b"\n")
        if lines:
            os.truncate(inbox, 0)

    def _older(self, connection: sql.Connection, path: Path, kind: Kind) -> list[Entry]:
        """The entries of a record that is written for itself, from where it was read last."""
        taken = connection.execute(
            sql.select(_TAKEN).where(_TAKEN.c.file == path.name)
        ).one_or_none()
        size = path.stat().st_size if path.exists() else 0
        beginning = beginning_of(path)
        goes_on = taken is not None and taken.octets <= size and taken.beginning == beginning
        start = taken.octets if taken is not None and goes_on else 0
        lines = lines_from(path, start)
        if not lines:
            return []
        end = start + sum(len(line) + 1 for line, _ in lines)
        row = {"file": path.name, "octets": end, "beginning": beginning}
        new = insert(_TAKEN).values(row)
        connection.execute(new.on_conflict_do_update(index_elements=["file"], set_=row))
        found = (entry_of(path.name, line, each, kind) for line, each in lines)
        return [entry for entry in found if entry is not None]

    def _add(self, connection: sql.Connection, entries: Iterable[Entry]) -> None:
        rows, contents = [], {}
        for entry in entries:
            data = entry.body_text.encode()
            digest = sha256(data).hexdigest()
            contents[digest] = zlib.compress(data)
            document = entry.document
            del document["body"]
            rows.append({**document, "content": digest})
        for start in range(0, len(rows), _AT_ONCE):
            batch = rows[start : start + _AT_ONCE]
            connection.execute(insert(_ENTRIES).on_conflict_do_nothing(), batch)
        kept = [{"digest": digest, "data": data} for digest, data in contents.items()]
        for start in range(0, len(kept), _AT_ONCE):
            batch = kept[start : start + _AT_ONCE]
            connection.execute(insert(_CONTENTS).on_conflict_do_nothing(), batch)

    def entries(
        self,
        kinds: Sequence[Kind] = (),
        since: datetime | None = None,
        until: datetime | None = None,
    ) -> list[Numbered]:
        """The entries, oldest first, of some kinds and a time."""
        wanted = sql.select(_ENTRIES).order_by(_ENTRIES.c.at, _ENTRIES.c.number)
        if kinds:
            wanted = wanted.where(_ENTRIES.c.kind.in_([each.value for each in kinds]))
        if since is not None:
            wanted = wanted.where(_ENTRIES.c.at >= _text(since))
        if until is not None:
            wanted = wanted.where(_ENTRIES.c.at < _text(until))
        with self._engine.connect() as connection:
            rows = connection.execute(wanted).mappings().all()
        found = ((row, read_entry({**row, "body": {}})) for row in rows)
        return [
            Numbered(row["number"], entry, row["content"], self)
            for row, entry in found
            if entry is not None
        ]

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
                    body = _unpacked(packed.get(last, b""), last) or {}
                yield each, body

    def digests(self) -> dict[str, str]:
        """Every entry's identity, and the digest of what it holds."""
        with self._engine.connect() as connection:
            rows = connection.execute(sql.select(_ENTRIES.c.uid, _ENTRIES.c.content))
            return {row.uid: row.content for row in rows}

    def documents(self, uids: Sequence[str]) -> Iterator[tuple[str, str, str]]:
        """Entries as JSON without what they hold, each with its identity and that digest."""
        wanted = sql.select(_ENTRIES).where(_ENTRIES.c.uid.in_(uids))
        with self._engine.connect() as connection:
            for row in connection.execute(wanted).mappings():
                document = {key: row[key] for key in row if key not in ("number", "content")}
                yield row["uid"], json.dumps(document, ensure_ascii=False), row["content"]

    def contents(self, digests: Collection[str]) -> Iterator[tuple[str, bytes]]:
        """The bodies of entries, packed, by their digests."""
        with self._engine.connect() as connection:
            for row in connection.execute(
                sql.select(_CONTENTS).where(_CONTENTS.c.digest.in_(digests))
            ):
                yield row.digest, row.data

    def take(self, documents: Sequence[tuple[str, str]], contents: Mapping[str, bytes]) -> int:
        """Take in entries of another laptop, each with the digest of what it holds; how many.

        What does not fit its digest, and what is no entry, is not taken.
        """
        held = {
            digest: body for digest, data in contents.items() if (body := _unpacked(data, digest))
        }
        found = []
        for text, digest in documents:
            said = parsed(text.encode())
            entry = read_entry({**said, "body": {}}) if isinstance(said, dict) else None
            if entry is not None and digest in held:
                found.append(replace(entry, body=held[digest]))
        with (
            alone_in(self.folder, _PATIENCE),
            as_caller(self.folder / DATABASE),
            self._engine.begin() as connection,
        ):
            self._add(connection, iter(found))
        return len(found)

    def content(self, digest: str) -> Mapping[str, Any]:
        """The body of an entry."""
        return _object(self.text(digest)) or {}

    def text(self, digest: str) -> str:
        """The body of an entry as it is written, "" for a damaged one."""
        with self._engine.connect() as connection:
            data = connection.execute(
                sql.select(_CONTENTS.c.data).where(_CONTENTS.c.digest == digest)
            ).scalar_one_or_none()
        return _inflated(data or b"", digest)


def _flush_always(connection: Any, _: object) -> None:
    """Every commit is on the disk when it returns (SQLite, PRAGMA synchronous)."""
    connection.execute("PRAGMA synchronous = FULL")
    connection.execute("PRAGMA busy_timeout = 5000")


def _unpacked(data: bytes, digest: str) -> dict[str, Any] | None:
    """The body of an entry; None for a damaged one, or one other than its digest says."""
    return _object(_inflated(data, digest))


def _object(text: str) -> dict[str, Any] | None:
    body = parsed(text)
    return body if isinstance(body, dict) else None


def _inflated(data: bytes, digest: str) -> str:
    try:
        unpacked = zlib.decompressobj().decompress(data, _LARGEST_CONTENT)
        return unpacked.decode() if sha256(unpacked).hexdigest() == digest else ""
    except (zlib.error, UnicodeDecodeError):
        return ""


def _put_aside(path: Path) -> Path:
    """Give a damaged database a name that says when; it is never written over.

    What SQLite has beside it for taking back what was not finished goes with it.
    """
    now = datetime.now(UTC).strftime("%Y%m%dT%H%M%S.%fZ")
    aside = path.with_name(f"logbook-damaged-{now}.db")
    for ending in ("-journal", "-wal", "-shm", ""):
        with suppress(FileNotFoundError):
            os.rename(f"{path}{ending}", f"{aside}{ending}")
    return aside


def _text(at: datetime) -> str:
    return at.astimezone(UTC).isoformat(timespec="milliseconds")
