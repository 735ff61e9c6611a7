"""Unknown devices that ask: one question at a time, which planned row each of them is."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable
from dataclasses import dataclass

from portcall.core.address import Mac
from portcall.core.assign.event import Event, EventKind
from portcall.core.plan.adopt import open_rows
from portcall.core.plan.rows import PlannedDevice
from portcall.core.trouble import Trouble
from portcall.jobs.assign.assignment import Assignment

NOBODY = "-"
"""What is typed for a device that is in no row."""

_MOST_WAITING = 64


@dataclass(frozen=True, slots=True)
class Question:
    """Which row is this device?

    ``rows`` are those it can be, the likeliest first, to be numbered from 1; ``waiting`` is how
    many other devices are to be asked about.
    """

    event: Event
    mac: Mac
    rows: tuple[PlannedDevice, ...]
    waiting: int = 0


class Unknowns:
    """Unplanned devices that ask; about one that was passed over, nothing is asked again."""

    def __init__(self, assignment: Assignment, maker_of: Callable[[Mac], str | None]) -> None:
        self._assignment = assignment
        self._maker_of = maker_of
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
                maker = self._maker_of(event.mac)
                rows = open_rows(self._assignment.rows_now(), event.says, maker)
            except Trouble:
                rows = ()
            self._current = Question(event, event.mac, rows, len(self._waiting))
        return self._current

    def answer(self, words: str) -> str | None:
        """The name of the row that the device is now, None for nobody. Raises BadInput, OSError.

        Nothing typed is the likeliest row, where there is one, and a hyphen nobody.

        After BadInput the same question stands; else the ``next`` is to be put.
        """
        if self._current is None:
            return None
        meant = words.strip() or ("1" if self._current.rows else "")
        if meant == NOBODY:
            return None
        return self._assignment.adopt(meant, self._current.mac, self._current.rows)
