"""What a person wrote down about a device: a text, and the files that belong to it.

It is shown and handed over, and never judged.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from typing import Any, NamedTuple

from portcall.core.document import OddDocument, Part, a_count, a_text, a_truth
from portcall.core.record.entry import Entry, Kind

LONGEST_NOTE = 600
FLAGS = REMARK, OPEN, DONE = "remark", "open", "done"
"""What a note may be beside a note: a remark on a record, an open point, or the end of one."""

_MOST_FILES = 16
_DIGITS = frozenset("0123456789abcdef")


class NotedFile(NamedTuple):
    """A file of a note: its digest, what it was called, and how many octets it has."""

    sha256: str
    name: str
    size: int


@dataclass(frozen=True, slots=True)
class Note:
    """A note, and its entry of the logbook."""

    entry: Entry
    text: str
    files: tuple[NotedFile, ...] = ()
    is_remark: bool = False
    """Whether it is about a record as a whole, by whoever signs it."""
    is_open: bool = False
    is_done: bool = False
    """Whether it is an open point, or says that the open point of this text is done."""


def note_body(text: str, files: Iterable[NotedFile], flag: str | None = None) -> dict[str, Any]:
    """What an entry of a note holds; ``flag`` is one of ``FLAGS``."""
    body: dict[str, Any] = {"text": text, "files": [each._asdict() for each in files]}
    return {**body, **({flag: True} if flag else {})}


def notes_in(entries: Iterable[tuple[Entry, Mapping[str, Any]]]) -> Iterator[Note]:
    """The notes among some entries, in their order."""
    for entry, body in entries:
        if entry.kind is Kind.NOTE:
            said = Part(body)
            files = tuple(filter(None, map(_file, said.parts("files", _MOST_FILES))))
            flags = (bool(said.get(flag, a_truth)) for flag in FLAGS)
            yield Note(entry, said.get("text", _a_note, ""), files, *flags)


def _a_note(value: object) -> str:
    return a_text(value, LONGEST_NOTE)


def _file(part: Part) -> NotedFile | None:
    try:
        digest = part.take("sha256", a_text)
        found = NotedFile(digest, part.take("name", a_text), part.take("size", a_count))
    except OddDocument:
        return None
    return found if len(digest) == 64 and _DIGITS.issuperset(digest) else None
