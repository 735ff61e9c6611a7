"""The names and groups of the plan's rows, as quick as can be: for completing what is typed.

Nothing is checked here; a plan that is broken has as many names as can be read.
"""

from __future__ import annotations

from contextlib import suppress
from pathlib import Path

from portcall.core.csv_text import BrokenLine, delimiter_in, lines_in, lines_of
from portcall.core.plan.text import decode
from portcall.core.trouble import BadInput

_PLAN_FILE = "plan.csv"
_SETTINGS_FILE = "site.toml"
_LONGEST = 1 << 20


def site_around(start: Path) -> Path | None:
    """The folder of the site that a folder is in; None outside of any."""
    for folder in (start, *start.parents):
        if (folder / _PLAN_FILE).is_file() or (folder / _SETTINGS_FILE).is_file():
            return folder
    return None


def plan_names(start: Path, column: str = "name") -> list[str]:
    """The names in the plan of the site that a folder is in, or what another column has."""
    site = site_around(start)
    return _names(site / _PLAN_FILE, column) if site is not None else []


def _names(path: Path, column: str) -> list[str]:
    try:
        with open(path, "rb") as file:
            lines = lines_in(decode(file.read(_LONGEST))[0])
    except (OSError, UnicodeDecodeError, BadInput):
        return []
    names: list[str] = []
    place: int | None = None
    with suppress(BrokenLine, ValueError):
        for _, cells in lines_of(lines, *delimiter_in(lines)):
            if place is None:
                place = [cell.strip().casefold() for cell in cells].index(column)
            elif len(cells) > place:
                names.append(cells[place].strip())
    return list(dict.fromkeys(name for name in names if name and name.isprintable()))
