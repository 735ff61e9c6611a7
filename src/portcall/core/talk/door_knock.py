"""Which doors of many devices are open: TCP ports are tried, a few of each device at a time.

Old devices have few sockets, so a door that opened counts as busy until the talk behind it has
ended. A door that stays silent is tried once more when another door of the same device answered:
either a packet was lost, or the device drops what it does not serve.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from enum import Enum
from ipaddress import IPv4Address
from typing import NamedTuple

from portcall.core.talk.conversation import Actions, Conversation, Endpoint, Report, Send

ANSWER_WAIT = 0.9
"""Seconds to wait for an answer.

The kernel repeats a SYN after one second (RFC 6298 §2); a shorter wait keeps it from sending a
packet that the pacer has not counted.
"""

CONNECTIONS = 3
"""To one device at a time."""

DEVICES_AT_ONCE = 64
"""How many devices are tried at the same time:

with enough of them, those that drop everything do not keep the others waiting.
"""


class DoorState(Enum):
    """What became of a knock."""

    OPEN = "open"
    REFUSED = "refused"
    SILENT = "silent"
    CLOSED = "closed"
    """It was open, and the talk behind it has ended."""


class Knock(NamedTuple):
    """An attempt to connect; without a state, it has yet to be made."""

    door: Endpoint
    state: DoorState | None = None


@dataclass(slots=True, eq=False)
class _House:
    """A device's doors: those still to be tried, and how the others were found."""

    waiting: deque[int]
    busy: int = 0
    silent: list[int] = field(default_factory=list)
    again: bool = False


class DoorKnock(Conversation[Knock, Knock]):
    """Sends attempts and hears how they ended; reports every state but ``CLOSED``.

    A reported ``SILENT`` says that an attempt is given up. ``proven`` are addresses whose device is
    known to answer. It is over when every door was tried and those that opened are closed.
    """

    def __init__(
        self,
        doors: Mapping[IPv4Address, Sequence[int]],
        proven: Collection[IPv4Address] = (),
    ) -> None:
        self.answered: set[IPv4Address] = set(proven)
        """Whose device opened or refused a door."""
        self._to_come = iter(doors.items())
        self._houses: dict[IPv4Address, _House] = {}
        self._free: deque[IPv4Address] = deque()
        """Devices that have a door to be tried and room for a connection, each once, so that all
        get their turn.
        """
        self._pending: dict[Endpoint, float] = {}
        """Attempts under way, and when each is given up."""
        self._expiries: deque[tuple[float, Endpoint]] = deque()
        self._sending = False

    def begin(self, now: float) -> Actions[Knock, Knock]:
        """The first houses."""
        for _ in range(DEVICES_AT_ONCE):
            self._admit()
        yield from self._next()

    def left(self, packet: Knock, now: float) -> Actions[Knock, Knock]:
        """One is on its way: the next."""
        self._sending = False
        self._pending[packet.door] = now + ANSWER_WAIT
        self._expiries.append((now + ANSWER_WAIT, packet.door))
        if self.wake_at is None:
            self.wake_at = now + ANSWER_WAIT
        yield from self._next()

    def unsent(self, packet: Knock, reason: str, now: float) -> Actions[Knock, Knock]:
        """As good as silent."""
        self._sending = False
        self._settle(packet.door, DoorState.SILENT)
        yield from self._next()

    def heard(self, packet: Knock, now: float) -> Actions[Knock, Knock]:
        """A door opened, or will not, or was closed after a talk."""
        door, state = packet
        if state is not DoorState.CLOSED:
            if self._pending.pop(door, None) is None:
                return
            yield Report(packet)
        if state is not DoorState.SILENT:
            self.answered.add(door.address)
        if state is not DoorState.OPEN:
            self._settle(door, state)
            yield from self._next()

    def woke(self, now: float) -> Actions[Knock, Knock]:
        """Give up on those that have had their time."""
        while self._expiries:
            at, door = self._expiries[0]
            if self._pending.get(door) == at:
                if at > now:
                    break
                del self._pending[door]
                yield Report(Knock(door, DoorState.SILENT))
                self._settle(door, DoorState.SILENT)
            self._expiries.popleft()
        self.wake_at = self._expiries[0][0] if self._expiries else None
        yield from self._next()

    def _settle(self, door: Endpoint, state: DoorState | None) -> None:
        """There is one connection less. A device that is done makes room for another."""
        house = self._houses[door.address]
        if house.waiting and house.busy == CONNECTIONS:
            self._free.append(door.address)
        house.busy -= 1
        if state is DoorState.SILENT:
            house.silent.append(door.port)
        if not house.waiting and house.busy == 0:
            if house.silent and door.address in self.answered and not house.again:
                self._enter(door.address, house.silent, again=True)
            else:
                del self._houses[door.address]
                self._admit()

    def _admit(self) -> None:
        for address, ports in self._to_come:
            if ports:
                self._enter(address, ports)
                return

    def _enter(self, address: IPv4Address, ports: Iterable[int], again: bool = False) -> None:
        self._houses[address] = _House(deque(ports), again=again)
        self._free.append(address)

    def _next(self) -> Actions[Knock, Knock]:
        if self._sending:
            return
        if self._free:
            address = self._free.popleft()
            house = self._houses[address]
            door = Endpoint(address, house.waiting.popleft())
            house.busy += 1
            if house.waiting and house.busy < CONNECTIONS:
                self._free.append(address)
            self._sending = True
            yield Send(Knock(door))
        elif not self._houses:
            self.over = True
            self.wake_at = None
