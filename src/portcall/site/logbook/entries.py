"""A record that is only ever added to: one line a step, as JSON, on the disk before it goes on."""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from portcall.site.files import append, open_to_append

_MOST_READ = 4 * 1024 * 1024


def add_entries(path: Path, *values: Mapping[str, object]) -> None:
    """Add entries with the time; they are on the disk on return. Raises OSError."""
    now = datetime.now(UTC).isoformat(timespec="milliseconds")
    lines = (json.dumps({"at": now, **each}, ensure_ascii=False) + "\n" for each in values)
    data = "".join(lines).encode()
    with open_to_append(path) as file:
        append(file, data)


def entries(path: Path) -> Iterator[dict[str, Any]]:
    """The newest entries of a record, oldest first; those that cannot be read are left out."""
    try:
        with open(path, "rb") as file:
            file.seek(max(0, path.stat().st_size - _MOST_READ))
            lines = file.read().splitlines()
    except OSError:
        return
    for line in lines:
        try:
            entry = json.loads(line)
        except ValueError:
            continue  # The first line may be cut, and the last one half written.
        if isinstance(entry, dict):
            yield entry
