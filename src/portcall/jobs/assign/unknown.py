"""Unknown devices that ask: one question at a time, which planned row each of them is."""

from __future__ import annotations

from collections import deque
from dataclasses import dataclass

from portcall.core.address import Mac
from portcall.core.assign.event import Event, EventKind
from portcall.core.plan.adopt import open_rows
from portcall.core.plan.rows import PlannedDevice
from portcall.core.trouble import Trouble
from portcall.jobs.assign.assignment import Assignment

_MOST_WAITING = 64


@dataclass(frozen=True, slots=True)
class Question:
    """Which row is this device? ``rows`` are those it can be, to be numbered from 1."""

    event: Event
    mac: Mac
    rows: tuple[PlannedDevice, ...]


class Unknowns:
    """Who asks and is not planned; who was passed over is not asked about again."""

    def __init__(self, assignment: Assignment) -> None:
        self._assignment = assignment
        self._waiting: deque[Event] = deque()
        self._known: set[Mac] = set()
        self._current: Question | None = None

    def heard(self, event: Event) -> Question | None:
        """A device asks: the question about it, when it is the next one to be put."""
        asks = event.kind in (EventKind.IGNORED, EventKind.ASKED)
        if not asks or event.name is not None or event.mac is None or event.mac in self._known:
            return None
        if len(self._waiting) >= _MOST_WAITING:
            return None
        self._known.add(event.mac)
        self._waiting.append(event)
        return self.next() if self._current is None else None

    def next(self) -> Question | None:
        """The question that is to be put now, or None."""
        self._current = None
        if self._waiting:
            event = self._waiting.popleft()
            assert event.mac is not None
            try:
                rows = open_rows(self._assignment.rows_now())
            except Trouble:
                rows = ()
            self._current = Question(event, event.mac, rows)
        return self._current

    def answer(self, words: str) -> str | None:
        """The name of the row that the device is now, None for nobody. Raises BadInput, OSError.

        After BadInput the same question stands; else the ``next`` is to be put.
        """
        if self._current is None:
            return None
        return self._assignment.adopt(words, self._current.mac, self._current.rows)
