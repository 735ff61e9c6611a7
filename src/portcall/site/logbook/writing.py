"""Writing entries of the logbook: a line of JSON each, on the disk before the command goes on.

They are added to this workstation's own file, which is quick and asks for nothing heavy. What an
entry holds is written once, however often it is found again: the next line names the first one.
"""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Mapping, Sequence
from contextlib import closing, suppress
from datetime import UTC, datetime, timedelta
from hashlib import sha256
from pathlib import Path
from typing import Any
from uuid import uuid4

from portcall.core.record.chain import link_of
from portcall.core.record.entry import Entry, Kind, read_entry
from portcall.site.logbook.chain_file import add_lines
from portcall.site.logbook.folder import (
    CACHE,
    ENTRIES,
    HEADER,
    logbook_folder,
    made_identity,
    own_source,
    this_workstation,
)
from portcall.site.logbook.who import who
from portcall.system import seconds_up, this_start

HOLDS, AS_IN, COPIED = "holds", "as_in", "copied_from"
"""The digest of what an entry holds; the number of the line that has it, where it is not here; and
where an entry was copied from that was written elsewhere, or earlier."""

SHORT = 1024
"""Octets of what is not worth looking for."""

_MOST_SEARCHED = 64 * 1024 * 1024
_COPIED_AT_ONCE = 1000


def new_entry(
    kind: Kind,
    summary: str,
    body: Mapping[str, Any],
    *,
    adapter: str = "",
    name: str = "",
    mac: str = "",
    address: str = "",
) -> Entry:
    """An entry of this moment, by this person on this workstation, with the line that was typed."""
    now = datetime.now(UTC)
    offset = now.astimezone().utcoffset() or timedelta(0)
    return Entry(
        uuid4().hex,
        now,
        kind,
        *who(),
        adapter,
        name,
        mac,
        address,
        summary,
        offset,
        body,
        this_start() or "",
        round(seconds_up(), 1),
    )


def write_entries(site: Path | None, *written: Entry) -> None:
    """Add entries; they are on the disk on return. Raises OSError."""
    held = _Held(site)
    _add(site, [_line(each, held) for each in written])


def copy_documents(site: Path | None, documents: Sequence[Mapping[str, Any]], origin: str) -> None:
    """Add entries that were written elsewhere, as JSON has them. Raises OSError."""
    for start in range(0, len(documents), _COPIED_AT_ONCE):
        held, lines = _Held(site), []
        for each in documents[start : start + _COPIED_AT_ONCE]:
            entry = read_entry(each)
            said = {**each, COPIED: origin}
            lines.append(_text(said) if entry is None else _line(entry, held, {COPIED: origin}))
        _add(site, lines)


def _add(site: Path | None, lines: Sequence[str]) -> None:
    def header() -> str:
        about = {"format": HEADER, "site": made_identity(site), "workstation": this_workstation()}
        return _text(about)

    add_lines(logbook_folder(site) / ENTRIES / own_source(site).file, lines, header)


def _line(entry: Entry, held: _Held, more: Mapping[str, Any] | None = None) -> str:
    """An entry as its line has it, where what it holds may be in an earlier line."""
    document = {**entry.document, **(more or {})}
    text = entry.body_text.encode()
    if len(text) > SHORT:
        document[HOLDS] = sha256(text).hexdigest()
        before = held.line_with(document[HOLDS])
        if before is not None:
            del document["body"]
            document[AS_IN] = before
    return _text(document)


def _text(document: Mapping[str, Any]) -> str:
    return json.dumps(document, ensure_ascii=False)


class _Held:
    """What this workstation's earlier lines hold, by its digest.

    The cache knows it of the lines that it was made of; the file is searched from there on.
    """

    def __init__(self, site: Path | None) -> None:
        self._cache = logbook_folder(site) / CACHE
        self._path = logbook_folder(site) / ENTRIES / own_source(site).file

    def line_with(self, digest: str) -> int | None:
        """The number of a line that has it in full, or None."""
        known, read = self._in_cache(digest)
        return known if known is not None else self._in_file(digest, read)

    def _in_cache(self, digest: str) -> tuple[int | None, int]:
        """The same by the cache, and how many octets of the file that knows."""
        address = f"{self._cache.absolute().as_uri()}?mode=ro"
        with suppress(sqlite3.Error), closing(sqlite3.connect(address, uri=True)) as book:
            name = self._path.name.removesuffix(".jsonl")
            read = book.execute("SELECT octets FROM files WHERE source = ?", (name,)).fetchone()
            line = book.execute(
                "SELECT line FROM whole WHERE source = ? AND digest = ?", (name, digest)
            ).fetchone()
            return (int(line[0]) if line else None), (int(read[0]) if read else 0)
        return None, 0

    def _in_file(self, digest: str, start: int) -> int | None:
        sought = f'"{HOLDS}": "{digest}"'.encode()
        with suppress(OSError), open(self._path, "rb") as file:
            file.seek(start)
            data = file.read(_MOST_SEARCHED)
            at = data.find(sought)
            while at >= 0:
                begins, ends = data.rfind(b"\n", 0, at) + 1, data.find(b"\n", at)
                line = data[begins:] if ends < 0 else data[begins:ends]
                link = link_of(line)
                if link is not None and f'"{AS_IN}": '.encode() not in line[-200:]:
                    return link[0]
                at = data.find(sought, at + 1)
        return None


def write_if_possible(site: Path | None, *written: Entry) -> str | None:
    """The same for a command that works all the same; why it is not recorded, or None."""
    try:
        write_entries(site, *written)
    except OSError as error:
        return f"not recorded in {logbook_folder(site)}: {error.strerror}"
    return None
