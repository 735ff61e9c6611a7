"""Writing down in the logbook what a command saw or did."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from portcall.cli.say import note
from portcall.core.record.entry import Entry, Kind
from portcall.site.folder import Site
from portcall.site.logbook.writing import new_entry, write_if_possible


def recorded(site: Site, kind: Kind, summary: str, body: Mapping[str, Any], **about: str) -> Entry:
    """Write it down. A command that only saw something has done so all the same: it is said."""
    entry = new_entry(kind, summary, body, **about)
    reason = write_if_possible(site.folder, entry)
    if reason is not None:
        note(reason)
    return entry
