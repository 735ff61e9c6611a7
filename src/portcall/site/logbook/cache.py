"""The database that is made of a logbook's lines, so that they need not be read each time.

It holds nothing that the lines do not have, and can be thrown away. It is brought up to date by
whoever reads the logbook and may write there; whoever may not has one in memory. A file is read
from where it was read last, if its last known line is still there; otherwise all is read anew.
"""

from __future__ import annotations

import os
import sqlite3
from collections.abc import Mapping
from contextlib import closing, suppress
from pathlib import Path

import sqlalchemy as sql
from sqlalchemy.exc import DatabaseError, OperationalError
from sqlalchemy.pool import NullPool, StaticPool

from portcall.site.logbook.filling import TO_WRITE, Filling
from portcall.site.logbook.folder import CACHE, Source, chain_files, logbook_folder
from portcall.site.logbook.tables import FILES, SHAPE
from portcall.system import as_caller

_BUSY_S = 10.0


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
            current = self._current(files)
            if current is None and files:
                with as_caller(self._path):
                    self._bring_up_to_date(files)
                current = _engine(self._path, "ro")
            if current is not None:
                self.is_kept = True
                return current
        except (OSError, OperationalError):
            # A full disk, an archive, a colleague's folder: what can be read is read all the same.
            pass
        except DatabaseError:
            if self.was_damaged:
                # It cannot be thrown away either, as in an archive: the lines have all of it.
                self.is_kept = False
                return filled_in_memory(self._site)
            self.was_damaged = True
            with suppress(OSError), as_caller(self._path):
                self._throw_away()
            return self._opened()
        self.is_kept = False
        try:
            engine = self._in_memory()
            Filling(self._site, engine).take_in(files)
            return engine
        except OperationalError:
            raise
        except DatabaseError:
            return filled_in_memory(self._site)

    def _current(self, files: Mapping[Source, Path]) -> sql.Engine | None:
        """The kept one, opened to be read, where it has all lines; else None."""
        if not self._path.exists():
            return None
        engine = _engine(self._path, "ro")
        # What a crash left half done can only be taken back by one that may write.
        with suppress(OperationalError):
            if _has_all(engine, files):
                return engine
        engine.dispose()
        return None

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
        waits = connection.get_execution_options().get(TO_WRITE)
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
