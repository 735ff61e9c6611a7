"""The names of the plan's rows, as quick as can be: for completing what is typed.

Nothing is checked here; a plan that is broken has as many names as can be read.
"""

from __future__ import annotations

import csv
from pathlib import Path

_PLAN_FILE = "plan.csv"
_SETTINGS_FILE = "site.toml"
_LONGEST = 1 << 20


def plan_names(start: Path) -> list[str]:
    """The names in the plan of the site that a folder is in."""
    for folder in (start, *start.parents):
        if (folder / _PLAN_FILE).is_file() or (folder / _SETTINGS_FILE).is_file():
            return _names(folder / _PLAN_FILE)
    return []


def _names(path: Path) -> list[str]:
    try:
        with open(path, "rb") as file:
            text = file.read(_LONGEST).decode("utf-8-sig", errors="replace")
        lines = text.splitlines()
        separator = ";" if lines and lines[0].count(";") > lines[0].count(",") else ","
        rows = list(csv.reader(lines, delimiter=separator))
    except (OSError, csv.Error):
        return []
    header = [cell.strip().casefold() for cell in rows[0]] if rows else []
    if "name" not in header:
        return []
    place = header.index("name")
    names = (row[place].strip() for row in rows[1:] if len(row) > place)
    return [name for name in names if name and name.isprintable()]
