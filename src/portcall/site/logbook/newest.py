"""Noting, while lines are taken in, the newest entry of each key (``core.record.marks``)."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import sqlalchemy as sql
from sqlalchemy.dialects.sqlite import insert

from portcall.core.record.entry import Entry, line_of, read_entry
from portcall.core.record.marks import NO_KEYS, OF_BODIES, keys_of
from portcall.site.logbook.contents import unpacked
from portcall.site.logbook.tables import CONTENTS, ENTRIES, LATEST

_MOST = 100_000
"""Keys that are kept in memory before they are written."""

_MOST_BODIES = 64


class Marks:
    """The newest entries of all keys, on their way into the database."""

    def __init__(self, connection: sql.Connection) -> None:
        self._connection = connection
        self._newest: dict[str, tuple[str, int, str]] = {}
        self._of_bodies: dict[tuple[str, str], list[str]] = {}

    def add(self, entry: Entry, line: int, digest: str, body: Mapping[str, Any]) -> None:
        """Note an entry; where ``body`` is empty, what it holds is looked up by its digest."""
        if entry.kind in NO_KEYS:
            return
        order = (entry.at_text, line, entry.uid)
        for key in self._keys(entry, digest, body):
            before = self._newest.get(key)
            if before is None or order > before:
                self._newest[key] = order
        if len(self._newest) > _MOST:
            self.write()

    def _keys(self, entry: Entry, digest: str, body: Mapping[str, Any]) -> list[str]:
        if entry.kind not in OF_BODIES:
            return _names(entry, body or self._body(digest))
        about = (entry.kind.value, digest)
        if about not in self._of_bodies:
            if len(self._of_bodies) >= _MOST_BODIES:
                self._of_bodies.clear()
            self._of_bodies[about] = _names(entry, body or self._body(digest))
        return self._of_bodies[about]

    def _body(self, digest: str) -> Mapping[str, Any]:
        wanted = sql.select(CONTENTS.c.data).where(CONTENTS.c.digest == digest)
        data = self._connection.execute(wanted).scalar_one_or_none()
        return unpacked(data or b"", digest) or {}

    def begin_anew(self) -> None:
        """Note all entries, without those that a wrong clock dated."""
        self._newest.clear()
        self._connection.execute(sql.delete(LATEST))
        wanted = sql.select(ENTRIES).where(
            ENTRIES.c.misdated.is_(False),
            ENTRIES.c.kind.not_in([kind.value for kind in NO_KEYS]),
        )
        for row in self._connection.execute(wanted).mappings().all():
            entry = read_entry({**row, "body": {}})
            if entry is not None:
                self.add(entry, row["line"], row["content"], {})

    def write(self) -> None:
        """Write down the newest entries, where they are newer than those that are there."""
        if not self._newest:
            return
        new = insert(LATEST)
        order = (LATEST.c.at, LATEST.c.line, LATEST.c.uid)
        is_newer = sql.tuple_(*(new.excluded[each.name] for each in order)) > sql.tuple_(*order)
        values = {each.name: new.excluded[each.name] for each in order}
        rows = [
            {"key": key, "at": at, "line": line, "uid": uid}
            for key, (at, line, uid) in self._newest.items()
        ]
        self._connection.execute(
            new.on_conflict_do_update(["key"], set_=values, where=is_newer), rows
        )
        self._newest.clear()


def _names(entry: Entry, body: Mapping[str, Any]) -> list[str]:
    return [line_of(key) for key in keys_of(entry, body)]
