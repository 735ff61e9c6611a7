"""Where the assignment stands: events folded into a row for each planned device, and who else asks.

Rows are as many as the plan has; strangers are bounded, the one not heard from longest is forgotten
first.
"""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum

from portcall.core.address import Mac
from portcall.core.assign.server import Event, EventKind
from portcall.core.find.sighting import Protocol
from portcall.core.plan import Plan, PlannedDevice

MOST_STRANGERS = 256


class State(StrEnum):
    """How far a planned device has come."""

    WAITING = "waiting"
    ASKED = "asked"
    OFFERED = "offered"
    ASSIGNED = "assigned"
    ANSWERING = "answering"
    REFUSED = "refused"
    DECLINED = "declined"


_STATES = {
    EventKind.ASKED: State.ASKED,
    EventKind.OFFERED: State.OFFERED,
    EventKind.ASSIGNED: State.ASSIGNED,
    EventKind.ANSWERING: State.ANSWERING,
    EventKind.REFUSED: State.REFUSED,
    EventKind.DECLINED: State.DECLINED,
}


@dataclass(slots=True)
class Row:
    """A planned device's state; times are seconds on the caller's clock."""

    device: PlannedDevice
    state: State = State.WAITING
    protocol: Protocol | None = None
    asked: int = 0
    since: float | None = None
    detail: str = ""


@dataclass(slots=True)
class Stranger:
    """A MAC that asks and is not planned."""

    mac: Mac
    protocol: Protocol | None
    asked: int
    last: float
    detail: str


class Board:
    """Fold events in with ``take``; read rows and strangers at any time."""

    def __init__(self, plan: Plan) -> None:
        served = [row for row in plan if row.mac is not None]
        self._rows = {row.mac: Row(row) for row in served}
        self._strangers: OrderedDict[Mac, Stranger] = OrderedDict()

    @property
    def rows(self) -> tuple[Row, ...]:
        """The planned devices that have a MAC, in the plan's order."""
        return tuple(self._rows.values())

    @property
    def strangers(self) -> Sequence[Stranger]:
        """Who else asks, the most recent first."""
        return tuple(reversed(self._strangers.values()))

    @property
    def missing(self) -> tuple[Row, ...]:
        """Rows without their address: what was given and never answered counts as missing."""
        return tuple(row for row in self.rows if row.state is not State.ANSWERING)

    def take(self, event: Event, now: float) -> None:
        """Fold in one event."""
        row = self._rows.get(event.mac)
        if row is None:
            self._take_stranger(event, now)
            return
        row.protocol = event.protocol or row.protocol
        if event.kind is EventKind.ASKED:
            row.asked += 1
            if row.state in (State.ASSIGNED, State.ANSWERING, State.OFFERED):
                return
        state = _STATES.get(event.kind)
        row.detail = event.detail
        if state is not None and state is not row.state:
            row.state = state
            row.since = now

    def _take_stranger(self, event: Event, now: float) -> None:
        known = self._strangers.pop(event.mac, None)
        asked = known.asked + 1 if known else 1
        self._strangers[event.mac] = Stranger(event.mac, event.protocol, asked, now, event.detail)
        if len(self._strangers) > MOST_STRANGERS:
            self._strangers.popitem(last=False)
