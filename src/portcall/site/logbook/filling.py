"""Taking lines into the database that is made of them."""

from __future__ import annotations

import time
import zlib
from collections.abc import Iterable, Mapping
from dataclasses import fields
from datetime import datetime
from hashlib import sha256
from pathlib import Path
from typing import Any

import sqlalchemy as sql
from sqlalchemy.dialects.sqlite import insert

from portcall.core.document import parsed
from portcall.core.record.chain import Chain, Damage, DamageKind, digest_of
from portcall.core.record.clocks import TOLERANCE, misdated
from portcall.core.record.entry import Entry
from portcall.site.logbook.folder import HEADER, Source, identities
from portcall.site.logbook.newest import Marks
from portcall.site.logbook.reading import entry_of, holds_of, is_copied
from portcall.site.logbook.tables import (
    CONTENTS,
    DAMAGE,
    ENTRIES,
    FILES,
    GONE,
    LATEST,
    META,
    SHAPE,
    WHOLE,
)
from portcall.site.logbook.writing import SHORT

TO_WRITE = "to_write"
"""The option of a connection whose transactions write from their beginning on."""

_AT_ONCE = 500
_OCTETS_AT_ONCE = 4 * 1024 * 1024


class Filling:
    """Taking lines into a database, in one transaction."""

    def __init__(self, site: Path | None, engine: sql.Engine) -> None:
        self._engine = engine.execution_options(**{TO_WRITE: True})
        self._identities = identities(site)
        self._now = time.time()
        self._judged_otherwise = False

    def take_in(self, files: Mapping[Source, Path]) -> None:
        """Read what is new in each file; all of every file where one is not as it was."""
        with self._engine.begin() as self._connection:
            META.create_all(self._connection)
            self._connection.exec_driver_sql(f"PRAGMA user_version = {SHAPE}")
            self._marks = Marks(self._connection)
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
            if self._judged_otherwise:
                self._marks.begin_anew()
            self._marks.write()

    def _all_anew(self, files: Mapping[Source, Path]) -> None:
        columns = (ENTRIES.c.uid, ENTRIES.c.source, ENTRIES.c.line)
        were = {row.uid: row._asdict() for row in self._connection.execute(sql.select(*columns))}
        for table in (ENTRIES, CONTENTS, WHOLE, FILES, DAMAGE, LATEST):
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
        chain, octets, last, latest = Chain(), 0, 0, 0.0
        if known is not None:
            chain = Chain(*(known[each.name] for each in fields(Chain)))
            octets, last, latest = known["octets"], known["last"], known["latest"]
        told, batch, is_in_order = path.stat(), _Batch(source), True
        with open(path, "rb") as file:
            file.seek(octets)
            for raw in file:
                if not raw.endswith(b"\n"):
                    break
                last, octets = octets, octets + len(raw)
                contents = parsed(raw[:-1])
                is_empty = not raw.strip()
                found = chain.take(raw[:-1], isinstance(contents, dict) or is_empty)
                self._damaged(source, found)
                if not isinstance(contents, dict):
                    continue
                if self._is_of_another_site(contents):
                    self._damaged(source, [Damage(DamageKind.OF_ANOTHER_SITE, chain.lines)])
                    octets = told.st_size
                    break
                entry = entry_of(source, raw[:-1], contents)
                if entry is None:
                    if contents.get("format") != HEADER and not chain.starts_late:
                        self._damaged(source, [Damage(DamageKind.NEWER, chain.lines)])
                    continue
                at, copied = entry.at.timestamp(), is_copied(contents)
                is_late = at > self._now + TOLERANCE
                is_in_order = is_in_order and not is_late and (copied or at >= latest - TOLERANCE)
                latest = latest if copied else max(latest, at)
                digest = batch.add(chain.lines, entry, contents, copied)
                self._marks.add(entry, chain.lines, digest, entry.body)
                if batch.is_full:
                    self._add(batch)
        self._add(batch)
        row = {
            "source": str(source),
            "file": path.name,
            "octets": octets,
            "last": last,
            "size": told.st_size,
            "changed": told.st_mtime_ns,
            "latest": latest,
            **{each.name: getattr(chain, each.name) for each in fields(Chain)},
        }
        new = insert(FILES).values(row)
        self._connection.execute(new.on_conflict_do_update(index_elements=["source"], set_=row))
        if not is_in_order:
            self._judge_clock(source)

    def _is_of_another_site(self, contents: Mapping[str, Any]) -> bool:
        """Whether a line begins the file of a site that has another identity."""
        is_header = contents.get("format") == HEADER
        return is_header and bool(self._identities) and contents.get("site") not in self._identities

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
        """Mark the entries of a file that a wrong clock has dated.

        One that was copied there says nothing of its neighbours: of it only the future is known.
        """
        columns = (ENTRIES.c.number, ENTRIES.c.at, ENTRIES.c.misdated, ENTRIES.c.copied)
        wanted = sql.select(*columns).where(ENTRIES.c.source == str(source))
        rows = self._connection.execute(wanted.order_by(ENTRIES.c.line)).all()
        times = {row.number: datetime.fromisoformat(row.at).timestamp() for row in rows}
        own = [row.number for row in rows if not row.copied]
        judged = dict(zip(own, misdated([times[n] for n in own], self._now), strict=True))
        for row in rows:
            wrong = judged.get(row.number, times[row.number] > self._now + TOLERANCE)
            if wrong != row.misdated:
                self._judged_otherwise = True
                self._connection.execute(
                    sql.update(ENTRIES).where(ENTRIES.c.number == row.number).values(misdated=wrong)
                )


_SAME = ("at", "kind", "content", "summary", "name", "mac", "address")
"""What an entry says, wherever it is copied to."""


class _Batch:
    """Entries that are taken in at once."""

    def __init__(self, source: Source) -> None:
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

    def add(self, line: int, entry: Entry, contents: Any, copied: bool) -> str:
        """Add an entry of a line; gives the digest of what it holds."""
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
        return digest


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
