"""The tables of the database that is made of a logbook's lines, and what they tell of damage."""

from __future__ import annotations

from dataclasses import dataclass, fields

import sqlalchemy as sql

from portcall.core.record.chain import Chain, Damage, DamageKind

SHAPE = 3
"""Of the tables; one of another shape is made anew."""


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

LATEST = sql.Table(
    "latest",
    META,
    sql.Column("key", sql.Text, primary_key=True),
    sql.Column("at", sql.Text, nullable=False),
    sql.Column("line", sql.Integer, nullable=False),
    sql.Column("uid", sql.Text, nullable=False),
)
"""The newest entry of each of the keys by which the state of a site is told (``marks``)."""


@dataclass(frozen=True, slots=True)
class Damaged:
    """What is wrong in a file of the logbook; ``file`` is what that is called in its folder."""

    source: str
    file: str
    damage: Damage

    def __str__(self) -> str:
        return f"{self.file}: {self.damage.sentence}"


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
