"""The devices that a site's logbook tells of, as quick as can be: for completing what is typed."""

from __future__ import annotations

import sqlite3
from contextlib import closing, suppress
from pathlib import Path

from portcall.site.logbook.folder import CACHE, logbook_folder

_QUESTION = (
    "SELECT DISTINCT name, mac FROM (SELECT name, mac FROM entries ORDER BY number DESC LIMIT 5000)"
)


def devices_in(site: Path | None) -> list[str]:
    """Their names, then their MACs, by the last few thousand entries that were read before."""
    address = f"{(logbook_folder(site) / CACHE).absolute().as_uri()}?mode=ro"
    told: list[tuple[str, str]] = []
    with suppress(sqlite3.Error), closing(sqlite3.connect(address, uri=True)) as book:
        told = [(str(name), str(mac)) for name, mac in book.execute(_QUESTION)]
    both = [*(name for name, _ in told), *(mac for _, mac in told)]
    return [each for each in dict.fromkeys(both) if each and each.isprintable()]
