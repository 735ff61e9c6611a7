"""Writing entries of the logbook: a line of JSON each, on the disk before the command goes on.

What is seen and done is written into ``logbook/inbox.jsonl``, which is quick and asks for nothing.
The database takes it from there when somebody reads the logbook (``store``).
"""

from __future__ import annotations

from collections.abc import Mapping
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any
from uuid import uuid4

from portcall.core.record.entry import Entry, Kind
from portcall.core.trouble import NotPossibleHere
from portcall.site.files import make_folder
from portcall.site.logbook.entries import add_entries
from portcall.site.logbook.who import who
from portcall.site.matches import state_folder
from portcall.site.turns import alone_in

FOLDER, INBOX, DATABASE = "logbook", "inbox.jsonl", "logbook.db"
_PATIENCE = 5.0


def logbook_folder(site: Path | None) -> Path:
    """Where a site's logbook is; without a site, this person's."""
    return (site or state_folder()) / FOLDER


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
    )


def write_entries(site: Path | None, *written: Entry) -> None:
    """Add entries; they are on the disk on return. Raises NotPossibleHere, OSError."""
    folder = logbook_folder(site)
    make_folder(folder)
    with alone_in(folder, _PATIENCE):
        add_entries(folder / INBOX, *(each.document for each in written))


def write_if_possible(site: Path | None, *written: Entry) -> str | None:
    """The same for a command that works all the same; why it is not recorded, or None."""
    try:
        write_entries(site, *written)
    except NotPossibleHere as trouble:
        return f"not recorded: {trouble}"
    except OSError as error:
        return f"not recorded in {logbook_folder(site)}: {error.strerror}"
    return None
