"""A record that is only ever added to: one line a step, as JSON, on the disk before it goes on.

Its lines are a chain (``core.record.chain``). Beside the time of the clock, which may be wrong, a
line has the computer's last start and the seconds since.
"""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping
from datetime import UTC, datetime
from pathlib import Path

from portcall.core.document import Part, parsed
from portcall.core.plain import plain
from portcall.site.logbook.chain_file import add_lines
from portcall.system import seconds_up, this_start

_MOST_READ = 4 * 1024 * 1024


def add_entries(path: Path, *values: Mapping[str, object]) -> None:
    """Add entries with the time; they are on the disk on return. Raises OSError."""
    head = {"at": datetime.now(UTC).isoformat(timespec="milliseconds"), **since_start()}
    add_lines(path, [json.dumps({**head, **plain(each)}, ensure_ascii=False) for each in values])


def since_start() -> dict[str, object]:
    """The computer's last start, and the seconds since then, as records have them."""
    start = this_start()
    return {} if start is None else {"boot": start, "uptime": round(seconds_up(), 1)}


def entries(path: Path, most: int = _MOST_READ, having: bytes = b"") -> Iterator[Part]:
    """The newest entries of a record, oldest first; those that cannot be read are left out.

    ``most`` is how many octets from its end are read, ``having`` what a line has to have in it.
    """
    try:
        with open(path, "rb") as file:
            file.seek(max(0, path.stat().st_size - most))
            lines = file.read().splitlines()
    except OSError:
        return
    # The first line may be cut, and the last one half written.
    yield from filter(None, (Part(parsed(line)) for line in lines if having in line))
