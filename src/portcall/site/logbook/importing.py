"""Reading again what ``logbook export`` wrote."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Any

from portcall.core.counted import counted
from portcall.core.document import parsed
from portcall.core.printable import printable
from portcall.core.record.entry import read_entry
from portcall.core.trouble import BadInput, NotPossibleHere
from portcall.site.files import read_bounded
from portcall.site.logbook.folder import logbook_folder
from portcall.site.logbook.store import Logbook
from portcall.site.logbook.writing import copy_documents

_LARGEST = 4 * 1024 * 1024 * 1024


@dataclass(frozen=True, slots=True)
class Imported:
    """How many entries were added, how many were here before, and what is to be known."""

    added: int
    known: int
    told: tuple[str, ...]


def import_lines(site: Path | None, file: Path) -> Imported:
    """Add the entries of a file that are not here. Raises BadInput, NotPossibleHere.

    One that is here and says something else stays as it is here, and is told.
    """
    here = {each.entry.uid: each for each in Logbook(site).entries()}
    new: dict[str, dict[str, Any]] = {}
    known, odd, other = 0, [], []
    data = read_bounded(file, _LARGEST, "export of a logbook")
    for number, line in enumerate(data.splitlines(), 1):
        said = parsed(line)
        entry = read_entry(said)
        if entry is None or not isinstance(said, dict):
            odd += [number] if line.strip() else []
        elif entry.uid in here:
            known += 1
            mine = here[entry.uid]
            if entry.line != mine.whole.line:
                other.append(number)
        else:
            new[entry.uid] = said
    if odd and not (known or new):
        raise BadInput(
            f"{file.name}: has no entry of a logbook in it", "portcall logbook export writes one"
        )
    try:
        copy_documents(site, list(new.values()), printable(file.name))
    except OSError as error:
        raise NotPossibleHere(f"{logbook_folder(site)}: {error.strerror}") from None
    told = []
    if odd:
        lines = counted(len(odd), "line")
        told.append(f"{lines}, the first of them line {odd[0]}, are no entries, and were left out")
    if other:
        lines = counted(len(other), "entry", "entries")
        told.append(
            f"{lines}, the first of them in line {other[0]}, say something else than here: here "
            "nothing was changed"
        )
    return Imported(len(new), known, tuple(told))
