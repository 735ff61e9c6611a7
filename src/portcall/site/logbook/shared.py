"""The logbook of a team: a PostgreSQL database, which several laptops copy entries to and from.

An entry is the same wherever it is, by its identity; what it holds is copied before it is. So
copying may be broken off at any point and begun again any number of times, from any number of
laptops, and nothing is there twice or half. Nobody waits for it: each laptop's own logbook is whole
by itself.

Needs psycopg, which is loaded when something is copied.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Any

import sqlalchemy as sql
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.engine import make_url
from sqlalchemy.exc import ArgumentError, DBAPIError, NoSuchModuleError

from portcall.core.printable import printable
from portcall.core.trouble import BadInput, NotPossibleHere
from portcall.site.logbook.store import Logbook

_META = sql.MetaData()
_ENTRIES = sql.Table(
    "portcall_entries",
    _META,
    sql.Column("site", sql.Text, primary_key=True),
    sql.Column("uid", sql.Text, primary_key=True),
    sql.Column("document", sql.Text, nullable=False),
    sql.Column("content", sql.Text, nullable=False),
)
_CONTENTS = sql.Table(
    "portcall_contents",
    _META,
    sql.Column("digest", sql.Text, primary_key=True),
    sql.Column("data", sql.LargeBinary, nullable=False),
)
_AT_ONCE = 200
_CONNECT_SECONDS = 5


@dataclass(frozen=True, slots=True)
class Synced:
    """How many entries were copied there, and from there."""

    sent: int
    received: int

    def __str__(self) -> str:
        return f"{self.sent} entries sent, {self.received} received"


def check_url(text: str, may_have_password: bool) -> sql.URL:
    """The address of a shared logbook. Raises BadInput."""
    try:
        url = make_url(text)
    except (ArgumentError, ValueError):
        raise BadInput("the shared logbook is written as postgresql://USER@HOST/DATABASE") from None
    shown = printable(url.render_as_string(hide_password=True), 80)
    if url.get_backend_name() != "postgresql":
        raise BadInput(f"{shown}: a shared logbook is a PostgreSQL database: postgresql://…")
    if url.password and not may_have_password:
        raise BadInput(
            f"{shown}: a password in a file of the site is read by everybody who has it; put "
            "it into ~/.pgpass or PGPASSWORD, or give the whole address by PORTCALL_LOGBOOK"
        )
    return url.set(drivername="postgresql+psycopg")


def sync(book: Logbook, site: str, url: sql.URL) -> Synced:
    """Copy both ways what the other side does not have. Raises NotPossibleHere.

    ``site`` is what the site is called, by which its entries are told from those of others there.
    """
    place = printable(url.render_as_string(hide_password=True), 80)
    try:
        engine = sql.create_engine(url, connect_args={"connect_timeout": _CONNECT_SECONDS})
        with engine.connect() as connection, connection.begin():
            _META.create_all(connection)
        here = book.digests()
        there = _uids(engine, site)
        sent = _send(engine, book, site, [uid for uid in here if uid not in there])
        received = _receive(engine, book, site, [uid for uid in there if uid not in here])
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
            f"{place}: {reason}; the logbook here is whole, and what was copied stays: sync later"
        ) from None
    return Synced(sent, received)


def _uids(engine: sql.Engine, site: str) -> set[str]:
    with engine.connect() as connection:
        wanted = sql.select(_ENTRIES.c.uid).where(_ENTRIES.c.site == site)
        return set(connection.execute(wanted).scalars())


def _parts(uids: Sequence[str]) -> Iterator[Sequence[str]]:
    for start in range(0, len(uids), _AT_ONCE):
        yield uids[start : start + _AT_ONCE]


def _send(engine: sql.Engine, book: Logbook, site: str, uids: Sequence[str]) -> int:
    count = 0
    for part in _parts(uids):
        rows = [
            {"site": site, "uid": uid, "document": document, "content": digest}
            for uid, document, digest in book.documents(part)
        ]
        kept = [
            {"digest": digest, "data": data}
            for digest, data in book.contents({str(row["content"]) for row in rows})
        ]
        with engine.begin() as connection:
            _add(connection, _CONTENTS, kept)
            _add(connection, _ENTRIES, rows)
        count += len(rows)
    return count


def _add(connection: sql.Connection, table: sql.Table, rows: Sequence[dict[str, Any]]) -> None:
    if rows:
        connection.execute(insert(table).on_conflict_do_nothing(), rows)


def _receive(engine: sql.Engine, book: Logbook, site: str, uids: Sequence[str]) -> int:
    count = 0
    for part in _parts(uids):
        with engine.connect() as connection:
            columns = (_ENTRIES.c.document, _ENTRIES.c.content)
            wanted = sql.select(*columns).where(_ENTRIES.c.site == site, _ENTRIES.c.uid.in_(part))
            rows = [(row.document, row.content) for row in connection.execute(wanted)]
            digests = {digest for _, digest in rows}
            content = sql.select(_CONTENTS).where(_CONTENTS.c.digest.in_(digests))
            contents = {row.digest: bytes(row.data) for row in connection.execute(content)}
        count += book.take(rows, contents)
    return count
