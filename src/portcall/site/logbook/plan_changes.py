"""The record of what the tool changed in the plan: ``plan-changes.jsonl``, one line a row.

It is written before the plan's file is: what was in a cell that is overwritten can be read here.
"""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path

from portcall.core.address import Mac
from portcall.core.document import a_mac, a_text
from portcall.core.plan.changing import Change, cells_of
from portcall.core.trouble import NotPossibleHere
from portcall.site.logbook.entries import add_entries, entries
from portcall.site.logbook.who import who

FILE = "plan-changes.jsonl"


def macs_before(folder: Path, name: str, mac: Mac) -> tuple[Mac, ...]:
    """The MACs that a row had before it got the one that it has, the latest last."""
    found: list[Mac] = []
    for entry in entries(folder / FILE):
        row = entry.part("is")
        was, now = entry.part("was").get("mac", a_mac), row.get("mac", a_mac)
        is_it = row.get("name", a_text, "").casefold() == name.casefold()
        if is_it and was is not None and now == mac != was:
            found.append(was)
    return tuple(found)


def record_changes(folder: Path, changes: Iterable[Change]) -> None:
    """Write down what is about to be changed. Raises NotPossibleHere."""
    path = folder / FILE
    try:
        add_entries(
            path,
            *(
                {
                    "name": change.name,
                    "was": cells_of(change.was) or None,
                    "is": cells_of(change.now) or None,
                    "who": who(),
                }
                for change in changes
            ),
        )
    except OSError as error:
        raise NotPossibleHere(
            f"{path}: what is changed in the plan is written down first, and cannot be: "
            f"{error.strerror}",
            "nothing was changed",
        ) from None
