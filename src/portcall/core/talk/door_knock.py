"""Which doors of many devices are open: TCP ports are tried, one of each device at a time.

Old devices have few sockets, and some have one: a door that opened counts as busy until the talk
behind it has ended, and no other is tried meanwhile. Of a device that drops attempts two are tried
at a time, since what it drops takes none of its sockets. A door that stays silent is tried once
more when another door of the same device answered: either a packet was lost, or the device drops
what it does not serve. That it does is believed when two in a row stay silent again.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Collection, Hashable, Iterable, Mapping, Sequence
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

CONNECTIONS = 1
"""To one device at a time."""

TO_SILENT = 2
"""Attempts at a time to a device that has dropped one."""

_SILENT_AGAIN = 2
"""Doors in a row that stay silent for the second time, after which the rest is not tried again."""

DEVICES_AT_ONCE = 64
"""How many devices are tried at the same time:

with enough of them, those that drop everything do not keep the others waiting.
"""


class DoorState(Enum):
    """The fate of a knock."""

    OPEN = "open"
    REFUSED = "refused"
    SILENT = "silent"
    CLOSED = "closed"
    """It was open, and the talk behind it has ended."""


class Knock(NamedTuple):
    """An attempt to connect; without a state, it has yet to be made."""

    door: Endpoint
    state: DoorState | None = None


def itself(address: IPv4Address) -> Hashable:
    """Each address is taken for a device of its own."""
    return address


@dataclass(slots=True, eq=False)
class _House:
    """A device's doors: those still to be tried, and how the others were found."""

    waiting: deque[Endpoint] = field(default_factory=deque)
    busy: int = 0
    is_open: int = 0
    silent: list[Endpoint] = field(default_factory=list)
    again: bool = False
    queued: bool = False

    @property
    def has_room(self) -> bool:
        """Whether another door may be tried now."""
        if self.is_open or not self.waiting:
            return False
        return self.busy < (TO_SILENT if self.silent else CONNECTIONS)


class DoorKnock(Conversation[Knock, Knock]):
    """Sends attempts and hears how they ended; reports every state but ``CLOSED``.

    A reported ``SILENT`` says that an attempt is given up. ``proven`` are addresses whose device is
    known to answer; ``device_at`` tells which device has an address, since one may have several. It
    is over when every door was tried and those that opened are closed.
    """

    def __init__(
        self,
        doors: Mapping[IPv4Address, Sequence[int]],
        proven: Collection[IPv4Address] = (),
        device_at: Callable[[IPv4Address], Hashable] = itself,
        wait: float = ANSWER_WAIT,
    ) -> None:
        self.answered: set[IPv4Address] = set(proven)
        """Whose device opened or refused a door."""
        to_come: dict[Hashable, list[Endpoint]] = {}
        self._device: dict[IPv4Address, Hashable] = {}
        for address, ports in doors.items():
            device = self._device[address] = device_at(address)
            to_come.setdefault(device, []).extend(Endpoint(address, port) for port in ports)
        self._to_come = iter(to_come.items())
        self._houses: dict[Hashable, _House] = {}
        self._free: deque[Hashable] = deque()
        """Devices that have a door to be tried and room for a connection, each once, so that all
        get their turn.
        """
        self._pending: dict[Endpoint, float] = {}
        """Attempts under way, and when each is given up."""
        self._expiries: deque[tuple[float, Endpoint]] = deque()
        self._sending = False
        self._wait = wait

    def begin(self, now: float) -> Actions[Knock, Knock]:
        """The first houses."""
        for _ in range(DEVICES_AT_ONCE):
            self._admit()
        yield from self._next()

    def left(self, packet: Knock, now: float) -> Actions[Knock, Knock]:
        """One is on its way: the next."""
        self._sending = False
        self._pending[packet.door] = now + self._wait
        self._expiries.append((now + self._wait, packet.door))
        if self.wake_at is None:
            self.wake_at = now + self._wait
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
        house = self._houses[self._device[door.address]]
        if state is not DoorState.SILENT:
            self.answered.add(door.address)
        if state is DoorState.OPEN:
            house.is_open += 1
        else:
            house.is_open -= state is DoorState.CLOSED
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
        device = self._device[door.address]
        house = self._houses[device]
        house.busy -= 1
        if state is DoorState.SILENT:
            house.silent.append(door)
        elif house.again:
            house.silent.clear()
        if house.again and len(house.silent) >= _SILENT_AGAIN:
            house.waiting.clear()
        if house.waiting or house.busy:
            self._queue(device, house)
            return
        again = [each for each in house.silent if each.address in self.answered]
        if again and not house.again:
            self._enter(device, again, again=True)
        else:
            del self._houses[device]
            self._admit()

    def _admit(self) -> None:
        for device, doors in self._to_come:
            if doors:
                self._enter(device, doors)
                return

    def _enter(self, device: Hashable, doors: Iterable[Endpoint], again: bool = False) -> None:
        house = self._houses[device] = _House(deque(doors), again=again)
        self._queue(device, house)

    def _queue(self, device: Hashable, house: _House) -> None:
        """Have the device wait for its turn, once, when another of its doors may be tried."""
        if house.has_room and not house.queued:
            house.queued = True
            self._free.append(device)

    def _next(self) -> Actions[Knock, Knock]:
        if self._sending:
            return
        while self._free:
            device = self._free.popleft()
            house = self._houses.get(device)
            if house is None:
                continue
            house.queued = False
            if not house.has_room:
                continue
            door = house.waiting.popleft()
            house.busy += 1
            self._queue(device, house)
            self._sending = True
            yield Send(Knock(door))
            return
        if not self._houses:
            self.over = True
            self.wake_at = None
