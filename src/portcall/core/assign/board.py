"""Where the assignment stands: a row for each planned device, and who else asks.

Events are folded into the rows. There are as many rows as the plan has. The number of strangers is
bounded: the one that was not heard from for longest is forgotten first.
"""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Sequence
from dataclasses import dataclass, replace
from enum import StrEnum
from ipaddress import IPv4Address

from portcall.core.address import Mac
from portcall.core.assign.event import Event, EventKind
from portcall.core.finding import Finding, Name
from portcall.core.plan.rows import Plan, PlannedDevice
from portcall.core.talk.request import AddressProtocol

MOST_STRANGERS = 256


class RowState(StrEnum):
    """How far a planned device has come."""

    WAITING = "waiting"
    ASKED = "asked"
    OFFERED = "offered"
    ASSIGNED = "assigned"
    ANSWERING = "answering"
    KEPT = "kept"
    REFUSED = "refused"
    DECLINED = "declined"


_STATES = {
    EventKind.ASKED: RowState.ASKED,
    EventKind.OFFERED: RowState.OFFERED,
    EventKind.ASSIGNED: RowState.ASSIGNED,
    EventKind.ANSWERING: RowState.ANSWERING,
    EventKind.KEPT: RowState.KEPT,
    EventKind.REFUSED: RowState.REFUSED,
    EventKind.DECLINED: RowState.DECLINED,
}


DONE = (RowState.ANSWERING, RowState.KEPT)


@dataclass(slots=True)
class Row:
    """A planned device's state; times are seconds on the caller's clock."""

    device: PlannedDevice
    state: RowState = RowState.WAITING
    protocol: AddressProtocol | None = None
    asked: int = 0
    since: float | None = None
    told: Finding | None = None
    """What is to be known of it."""
    first: float | None = None
    """When it first asked."""
    mac: Mac | None = None
    """Who asked, for a row that goes by place."""

    @property
    def detail(self) -> str:
        """A sentence about this device, or nothing."""
        return str(self.told) if self.told is not None else ""


@dataclass(slots=True)
class Stranger:
    """A MAC that asks and is not planned; ``address`` is the temporary one it was lent."""

    mac: Mac
    protocol: AddressProtocol | None = None
    asked: int = 0
    last: float = 0.0
    told: Finding | None = None
    address: IPv4Address | None = None
    near: tuple[Name, ...] = ()
    """The names of the rows whose MAC is almost this one."""

    @property
    def detail(self) -> str:
        """A sentence about this device, or nothing."""
        return str(self.told) if self.told is not None else ""


class Board:
    """Fold events in with ``take``; read rows and strangers at any time."""

    def __init__(self, plan: Plan) -> None:
        self._rows: dict[str, Row] = {}
        self._strangers: OrderedDict[Mac, Stranger] = OrderedDict()
        self.strangers_forgotten = 0
        """How many were too many to be remembered."""
        self.change(plan)

    def change(self, plan: Plan) -> None:
        """From now on another plan; what is the same in both keeps its state."""
        before = self._rows
        self._rows = {}
        for device in plan:
            if not device.is_served:
                continue
            known = before.get(device.name)
            same = known is not None and replace(known.device, line=device.line) == device
            self._rows[device.name] = known if known is not None and same else Row(device)
            if device.mac is not None:
                self._strangers.pop(device.mac, None)

    @property
    def rows(self) -> tuple[Row, ...]:
        """The planned devices that can be recognised, in the plan's order."""
        return tuple(self._rows.values())

    @property
    def strangers(self) -> Sequence[Stranger]:
        """The unplanned devices that ask, the most recent first."""
        return tuple(reversed(self._strangers.values()))

    @property
    def never_asked(self) -> tuple[str, ...]:
        """The names of rows whose device has not asked for an address, and answers nowhere."""
        return tuple(row.device.name for row in self.rows if row.state is RowState.WAITING)

    @property
    def missing(self) -> tuple[Row, ...]:
        """The rows whose device does not answer at its address; an address that was given and never
        answered counts as missing.
        """
        return tuple(row for row in self.rows if row.state not in DONE)

    @property
    def all_kept(self) -> bool:
        """Whether every device holds its address over a power cycle."""
        return all(row.state is RowState.KEPT for row in self.rows)

    def take(self, event: Event, now: float) -> None:
        """Fold in one event."""
        row = self._rows.get(event.name or "")
        if row is None:
            self._take_stranger(event, now)
            return
        row.protocol = event.protocol or row.protocol
        row.mac = event.mac or row.mac
        if event.gave_back:
            row.state, row.since, row.told = RowState.WAITING, now, event.told
            return
        if event.kind is EventKind.ASKED:
            row.asked += 1
            row.first = now if row.first is None else row.first
            if row.state in (RowState.ASSIGNED, RowState.OFFERED, *DONE):
                return
        state = _STATES.get(event.kind)
        row.told = event.told
        if state is not None and state is not row.state:
            row.state = state
            row.since = now

    def _take_stranger(self, event: Event, now: float) -> None:
        if event.mac is None or event.kind is EventKind.NOTICE:
            return
        stranger = self._strangers.pop(event.mac, None) or Stranger(event.mac)
        self._strangers[event.mac] = stranger
        stranger.protocol = event.protocol or stranger.protocol
        if event.kind in (EventKind.ASKED, EventKind.IGNORED):
            stranger.asked += 1
            stranger.last = now
            stranger.told, stranger.near = event.told, event.near
        elif event.kind is EventKind.ASSIGNED:
            stranger.address = event.address
        if len(self._strangers) > MOST_STRANGERS:
            self._strangers.popitem(last=False)
            self.strangers_forgotten += 1
