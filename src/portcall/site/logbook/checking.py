"""Reading a logbook whole: whether each line is as it was written, and what is missing."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path

import sqlalchemy as sql

from portcall.core.counted import counted
from portcall.core.record.chain import HARMLESS
from portcall.core.record.clocks import settings_of_a_clock
from portcall.core.record.entry import Kind
from portcall.core.record.notes import notes_in
from portcall.site.logbook.cache import filled_in_memory
from portcall.site.logbook.kept_files import KeptFile, read_kept
from portcall.site.logbook.store import Logbook
from portcall.site.logbook.tables import ENTRIES, FILES, Damaged, damage_of


@dataclass(frozen=True, slots=True)
class CheckedFile:
    """A file of the logbook: how many lines and entries it has, from when to when.

    ``misdated`` counts the entries that a wrong clock dated; ``clock_set`` are the lines before
    which the clock was set, each with the seconds by which it was put on.
    """

    file: str
    lines: int
    entries: int
    first: datetime | None
    last: datetime | None
    misdated: int
    clock_set: tuple[tuple[int, float], ...]
    damage: tuple[Damaged, ...]

    @property
    def is_whole(self) -> bool:
        """Whether nothing in it was changed, or is missing."""
        return all(each.damage.kind in HARMLESS for each in self.damage)


@dataclass(frozen=True, slots=True)
class CheckedBook:
    """All files of a logbook, and in sentences what else is to be known."""

    files: tuple[CheckedFile, ...]
    findings: tuple[str, ...] = ()

    @property
    def is_whole(self) -> bool:
        """Whether nothing was changed, or is missing, as far as the files tell."""
        return not self.findings and all(each.is_whole for each in self.files)


def check_logbook(site: Path | None) -> CheckedBook:
    """Read all of it, whatever was read before. Raises NotPossibleHere, OSError."""
    book = Logbook(site)
    engine = filled_in_memory(site)
    with engine.connect() as connection:
        damage = {*damage_of(connection), *book.damage}
        files = tuple(_files(connection, damage))
        held = _held(connection)
    findings = list(_gone_files(damage, files))
    if book.ask(_held) != held:
        book.make_anew()
        findings.append(
            "the database that is made of the lines said something else than they do: it was made "
            "anew, and what was said by it before is to be looked at again"
        )
    noted = ((each.entry, body) for each, body in book.with_bodies(book.entries((Kind.NOTE,))))
    kept = {file for note in notes_in(noted) for file in note.files}
    lost = [file.name for file in kept if read_kept(site, KeptFile(*file)) is None]
    if lost:
        files_of = counted(len(lost), "file")
        findings.append(f"{files_of} of notes are not kept here, or not as they were: {lost[0]}")
    return CheckedBook(files, tuple(findings))


def _files(connection: sql.Connection, damage: set[Damaged]) -> Iterator[CheckedFile]:
    about = (
        sql.func.count(),
        sql.func.min(ENTRIES.c.at),
        sql.func.max(ENTRIES.c.at),
        sql.func.sum(sql.cast(ENTRIES.c.misdated, sql.Integer)),
    )
    for row in connection.execute(sql.select(FILES).order_by(FILES.c.source)).all():
        told = sql.select(*about).where(ENTRIES.c.source == row.source)
        count, first, last, misdated = connection.execute(told).one()
        mine = [each for each in damage if each.source == row.source]
        yield CheckedFile(
            row.file,
            row.lines,
            count,
            datetime.fromisoformat(first) if first else None,
            datetime.fromisoformat(last) if last else None,
            misdated or 0,
            tuple(_clock_set(connection, row.source)),
            tuple(sorted(mine, key=lambda each: each.damage.line)),
        )


def _clock_set(connection: sql.Connection, source: str) -> Iterator[tuple[int, float]]:
    columns = (ENTRIES.c.line, ENTRIES.c.at, ENTRIES.c.boot, ENTRIES.c.uptime)
    own = sql.select(*columns).where(ENTRIES.c.source == source, ENTRIES.c.copied.is_(False))
    # Of one that is known to be dated wrong, nothing is left to be told.
    own = own.where(ENTRIES.c.misdated.is_(False))
    rows = connection.execute(own.order_by(ENTRIES.c.line))
    yield from settings_of_a_clock(
        (row.line, datetime.fromisoformat(row.at).timestamp(), row.boot, row.uptime) for row in rows
    )


def _gone_files(damage: set[Damaged], files: tuple[CheckedFile, ...]) -> Iterator[str]:
    shown = {each for file in files for each in file.damage}
    yield from map(str, sorted(damage - shown, key=str))


def _held(connection: sql.Connection) -> set[tuple[object, ...]]:
    columns = (ENTRIES.c.uid, ENTRIES.c.at, ENTRIES.c.content, ENTRIES.c.summary, ENTRIES.c.name)
    return {tuple(row) for row in connection.execute(sql.select(*columns))}
