"""Taking over a logbook of an earlier version, which kept its entries in a database alone."""

from __future__ import annotations

import os
import sqlite3
import zlib
from collections.abc import Iterator
from contextlib import closing
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from portcall.core.document import parsed
from portcall.core.trouble import NotPossibleHere
from portcall.site.logbook.folder import (
    EARLIER_DATABASE,
    EARLIER_INBOX,
    RECORDS,
    Source,
    logbook_folder,
)
from portcall.site.logbook.heard import tell
from portcall.site.logbook.reading import entry_of
from portcall.site.logbook.writing import copy_documents
from portcall.site.matches import state_folder
from portcall.system import as_caller

_LARGEST_CONTENT = 256 * 1024 * 1024
_DONE = "taken-over"


def take_over(site: Path | None) -> None:
    """Write what an earlier version knew into this workstation's lines, once.

    Its files are kept, under other names. Raises NotPossibleHere, OSError.
    """
    folder = logbook_folder(site)
    database, inbox = folder / EARLIER_DATABASE, folder / EARLIER_INBOX
    there = [path for path in (database, inbox) if path.exists()]
    if not there:
        return
    known = _in_the_records(site or state_folder())
    try:
        documents = [*_in_the_database(database), *_in_the_inbox(inbox)]
    except sqlite3.OperationalError as error:
        raise NotPossibleHere(f"{database}: cannot be read: {error}") from None
    except sqlite3.DatabaseError:
        tell(folder, [f"{EARLIER_DATABASE}: is damaged; it is kept, and what it had is not here"])
        documents = list(_in_the_inbox(inbox))
    new = {str(each["uid"]): each for each in documents if each.get("uid") not in known}
    try:
        copy_documents(site, list(new.values()), "an earlier version")
        for path in there:
            with as_caller(path):
                os.replace(path, path.with_name(_free_name(path)))
    except OSError as error:
        raise NotPossibleHere(
            f"{folder}: an earlier version wrote this logbook; it is taken over once, and cannot "
            f"be written: {error.strerror}",
            "copy the site's folder to where you may write, and read it there",
        ) from None


def _free_name(path: Path) -> str:
    now = datetime.now(UTC).strftime("%Y%m%dT%H%M%S.%fZ")
    return f"{path.stem}-{_DONE}-{now}{path.suffix}"


def _in_the_records(folder: Path) -> set[str]:
    """The identities of what the records beside the plan tell themselves."""
    found = set()
    for record in RECORDS:
        path = folder / record
        for line in path.read_bytes().split(b"\n") if path.exists() else ():
            entry = entry_of(Source("", record), line, parsed(line))
            found |= {entry.uid} if entry is not None else set()
    return found


def _in_the_database(path: Path) -> Iterator[dict[str, Any]]:
    if not path.exists():
        return
    address = f"{path.absolute().as_uri()}?mode=rw"
    with closing(sqlite3.connect(address, uri=True)) as book:
        if not book.execute("SELECT 1 FROM sqlite_master WHERE name = 'entries'").fetchone():
            return  # It was begun, and nothing was ever written into it.
        book.row_factory = sqlite3.Row
        question = "SELECT * FROM entries LEFT JOIN contents ON digest = content ORDER BY number"
        for row in book.execute(question):
            document = {key: row[key] for key in row.keys()}  # noqa: SIM118 - a Row is no mapping
            packed = document.pop("data") or b""
            for key in ("number", "content", "digest"):
                del document[key]
            try:
                body = parsed(zlib.decompressobj().decompress(packed, _LARGEST_CONTENT))
            except zlib.error:
                body = None
            yield {**document, "body": body if isinstance(body, dict) else {}}


def _in_the_inbox(path: Path) -> Iterator[dict[str, Any]]:
    for line in path.read_bytes().split(b"\n") if path.exists() else ():
        said = parsed(line)
        if isinstance(said, dict) and isinstance(said.get("uid"), str):
            yield said
