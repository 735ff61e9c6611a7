"""A chain of lines, which are only ever added to: each vouches for the one before it.

A line is an object of JSON whose first two members are ``n``, its number in its file from 1 on, and
``before``, the SHA-256 (FIPS 180-4), in hexadecimal, of the line before it without its line end;
before the first line there are 64 zeros. So a line that was changed, taken out or put in is seen at
the line behind it. Whoever can write the file can also write the whole chain anew: that is seen
where its digests are known elsewhere, on another laptop or in a record.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from enum import StrEnum
from hashlib import sha256

from portcall.core.counted import counted

NOTHING = "0" * 64
"""The digest that the first line names."""

_LINKED = re.compile(rb'\{"n": ([1-9][0-9]{0,11}), "before": "([0-9a-f]{64})"(?:, |\})')


def linked(text: str, number: int, before: str) -> str:
    """An object of JSON as a line of a chain. ``text`` is the object."""
    head = f'{{"n": {number}, "before": "{before}"'
    rest = text[1:].lstrip()
    return f"{head}{rest}" if rest == "}" else f"{head}, {rest}"


def digest_of(line: bytes) -> str:
    """The digest of a line without its line end."""
    return sha256(line).hexdigest()


def link_of(line: bytes) -> tuple[int, str] | None:
    """A line's number, and the digest that it names; None for a line without them."""
    found = _LINKED.match(line)
    return (int(found[1]), found[2].decode()) if found else None


class DamageKind(StrEnum):
    """What can be wrong in a chain; the names are part of ``logbook check --json``."""

    CHANGED = "changed"
    MISSING = "missing"
    OUT_OF_PLACE = "out of place"
    UNREADABLE = "unreadable"
    NOT_LINKED = "not linked"
    CUT = "cut"
    GONE = "gone"
    OTHERWISE = "otherwise"
    NEWER = "newer"
    OF_ANOTHER_SITE = "of another site"


HARMLESS = (DamageKind.CUT, DamageKind.NEWER)
"""What takes nothing away: nobody was told that a line is written which was cut."""


BROKEN = (
    DamageKind.CHANGED,
    DamageKind.MISSING,
    DamageKind.OUT_OF_PLACE,
    DamageKind.UNREADABLE,
    DamageKind.NOT_LINKED,
)
"""What breaks a chain: from there on it vouches for nothing before."""


@dataclass(frozen=True, slots=True)
class Damage:
    """What is wrong in a chain: from which line on, and how many lines it is about."""

    kind: DamageKind
    line: int
    count: int = 1

    @property
    def sentence(self) -> str:
        """In words, to follow the name of a file."""
        lines = counted(self.count, "line")
        at = f"line {self.line}"
        if self.kind is DamageKind.CHANGED:
            return f"{at} is not as it was when the line behind it was written"
        if self.kind is DamageKind.MISSING:
            are = "is" if self.count == 1 else "are"
            return f"{lines} that were written before {at} {are} missing"
        if self.kind is DamageKind.OUT_OF_PLACE:
            return f"{at} does not belong there: it is numbered as an earlier one"
        if self.kind is DamageKind.UNREADABLE:
            return f"{at} is damaged and cannot be read"
        if self.kind is DamageKind.NOT_LINKED:
            return f"{at} was not written by this program: it names no line before it"
        if self.kind is DamageKind.CUT:
            return f"{at} was cut short when the program or the computer was stopped"
        if self.kind is DamageKind.GONE:
            return f"{lines} that were read here before, from {at} on, are gone or changed"
        if self.kind is DamageKind.OTHERWISE:
            return f"{at} says something else than the same entry in another file does"
        if self.kind is DamageKind.OF_ANOTHER_SITE:
            return "it belongs to another site, and is not read"
        return f"{lines}, the first of them {at}, are of a newer version and are not read"


@dataclass(slots=True)
class Chain:
    """How far a chain was read: its last line's number in the file, the number it names, its
    digest, and whether it could not be read.

    ``starts_late`` is whether only lines without links were read so far, which were written before
    lines were linked.
    """

    lines: int = 0
    number: int = 0
    head: str = NOTHING
    unread: bool = False
    starts_late: bool = True

    def take(self, line: bytes, is_object: bool) -> list[Damage]:
        """Read one more line, without its line end; gives what is wrong between it and the last."""
        found: list[Damage] = []
        self.lines += 1
        link = link_of(line) if is_object else None
        follows = link == (self.number + 1, self.head)
        if self.unread:
            # Among lines without links nobody can tell whether a crash cut one.
            is_cut = follows or (link is None and self.starts_late)
            kind = DamageKind.CUT if is_cut else DamageKind.UNREADABLE
            found.append(Damage(kind, self.lines - 1))
        elif link is None and is_object and not self.starts_late:
            found.append(Damage(DamageKind.NOT_LINKED, self.lines))
        elif link is not None and not follows:
            found.append(self._broken(*link))
        self.starts_late = self.starts_late and link is None
        self.number = link[0] if link is not None else self.number + 1
        self.head = digest_of(line)
        self.unread = not is_object
        return found

    def _broken(self, number: int, before: str) -> Damage:
        missing = number - self.number - 1
        if missing > 0:
            return Damage(DamageKind.MISSING, self.lines, missing)
        if missing < 0:
            return Damage(DamageKind.OUT_OF_PLACE, self.lines)
        return Damage(DamageKind.CHANGED, self.lines - 1)

    def end(self) -> list[Damage]:
        """What is wrong with the last line, when none is behind it."""
        return [Damage(DamageKind.UNREADABLE, self.lines)] if self.unread else []
