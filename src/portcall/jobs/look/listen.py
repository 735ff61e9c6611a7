"""Reading a capture file as if it was heard now."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from portcall.core.find.devices import Gathering
from portcall.core.find.overhear import Overhear
from portcall.core.talk.conversation import Frame, Report
from portcall.site.captures import read_capture


@dataclass(frozen=True, slots=True)
class Read:
    """How many frames a capture has, and over how many seconds."""

    frames: int
    seconds: float


def read_into(gathering: Gathering, source: Path) -> Read:
    """Take what every frame of a capture tells. Raises BadInput, NotPossibleHere."""
    listening = Overhear(None, None)
    count, first, last = 0, None, 0.0
    for captured in read_capture(source):
        count += 1
        last = captured.at if captured.at is not None else last
        first = last if first is None else first
        for action in listening.heard(Frame(captured.data), last):
            if isinstance(action, Report):
                gathering.add(action.fact)
    return Read(count, last - (first or 0.0))
