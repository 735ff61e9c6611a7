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
from pathlib import Path
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
_THIS_COMPUTER = ("localhost", "127.0.0.1", "::1")
_CONNECT_SECONDS = 5


@dataclass(frozen=True, slots=True)
class Synced:
    """How many entries were copied there, and from there."""

    sent: int
    received: int

    def __str__(self) -> str:
        return f"{self.sent} entries sent, {self.received} received"


_OF_A_SITE = {"host", "sslrootcert"}
"""What may stand behind the question mark in an address of a site's file."""


def _shown(url: sql.URL) -> str:
    """An address as it may be printed: without a password, wherever it stands in it."""
    return printable(url.set(query={}).render_as_string(hide_password=True), 80)


def check_url(text: str, own: bool) -> sql.URL:
    """The address of a shared logbook: the person's ``own``, or a site's. Raises BadInput.

    A site's file may come from anybody, and the server gets the team's password: it has to prove by
    a certificate who it is, unless it is on this computer. An address of one's own is taken as it
    is.
    """
    try:
        url = make_url(text)
    except (ArgumentError, ValueError):
        raise BadInput("the shared logbook is written as postgresql://USER@HOST/DATABASE") from None
    shown = _shown(url)
    if "password" in url.query or "sslpassword" in url.query:
        raise BadInput(
            f"{shown}: a password behind the question mark is written into logs and lists",
            "put it into ~/.pgpass or PGPASSWORD",
        )
    if url.get_backend_name() != "postgresql":
        raise BadInput(f"{shown}: a shared logbook is a PostgreSQL database: postgresql://…")
    if url.password and not own:
        raise BadInput(
            f"{shown}: a password in a file of the site is read by everybody who has it",
            "put it into ~/.pgpass or PGPASSWORD, or give the whole address by PORTCALL_LOGBOOK",
        )
    url = url.set(drivername="postgresql+psycopg")
    return url if own else _with_proof(url, shown)


def _with_proof(url: sql.URL, shown: str) -> sql.URL:
    """A site's address, with which the server has to prove who it is."""
    odd = ", ".join(sorted(set(url.query) - _OF_A_SITE))
    if odd:
        raise BadInput(
            f"{shown}: {printable(odd, 40)} is not taken from a file of the site",
            "give the whole address by PORTCALL_LOGBOOK",
        )
    named = url.query.get("host", url.host or "")
    hosts = named if isinstance(named, tuple) else tuple(named.split(","))
    if all(not host or host.startswith("/") or host in _THIS_COMPUTER for host in hosts):
        return url
    proof = {"sslmode": "verify-full"}
    if not (Path.home() / ".postgresql" / "root.crt").exists():
        proof["sslrootcert"] = "system"
    return url.set(query={**proof, **url.query})


def sync(book: Logbook, site: str, url: sql.URL) -> Synced:
    """Copy both ways what the other side does not have. Raises NotPossibleHere.

    ``site`` is what the site is called, by which its entries are told from those of others there.
    """
    place = _shown(url)
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
            f"{place}: {reason}", "the logbook here is whole, and what was copied stays: sync later"
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
