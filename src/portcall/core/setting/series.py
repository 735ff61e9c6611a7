"""Devices that all start at one address, connected one after the other.

Who is there, and is it the device whose turn it is?
"""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field
from enum import Enum, auto
from ipaddress import IPv4Address

from portcall.core.address import UNSPECIFIED, Mac
from portcall.core.plan.near import difference
from portcall.core.plan.rows import Plan, PlannedDevice
from portcall.core.setting.whereabouts import INTERVAL, QUIET
from portcall.core.talk.conversation import Actions, Conversation, Frame, Report, Send
from portcall.core.talk.frames import heard_arp
from portcall.core.wire import arp

_STEADY = 2 * INTERVAL + 0.2
"""Seconds without a new answer after which it is settled who is there:

of two devices, both have been heard by then.
"""

_MOST = 16


class Occupants(Conversation[Frame, frozenset[Mac]]):
    """Asks twice a second who has an address, and reports who has it whenever that has changed.

    A change is reported once it has lasted a second. It is never over.
    """

    def __init__(self, own_mac: Mac, address: IPv4Address) -> None:
        self._own_mac = own_mac
        self._address = address
        self._heard: dict[Mac, float] = {}
        self._changed = 0.0
        self._told: frozenset[Mac] | None = None

    def begin(self, now: float) -> Actions[Frame, frozenset[Mac]]:
        """Ask."""
        self._changed = now
        yield from self.woke(now)

    def woke(self, now: float) -> Actions[Frame, frozenset[Mac]]:
        """Ask again; say who is there."""
        self.wake_at = now + INTERVAL
        gone = [mac for mac, at in self._heard.items() if now - at > QUIET]
        for mac in gone:
            del self._heard[mac]
            self._changed = now
        there = frozenset(self._heard)
        if there != self._told and now - self._changed >= _STEADY:
            self._told = there
            yield Report(there)
        yield Send(Frame(arp.encode_request(self._own_mac, UNSPECIFIED, self._address)))

    def heard(self, packet: Frame, now: float) -> Actions[Frame, frozenset[Mac]]:
        """Take an answer."""
        said = heard_arp(packet)
        if said is not None and said.sender_address == self._address != UNSPECIFIED:
            mac = said.sender_mac
            if mac != self._own_mac and (mac in self._heard or len(self._heard) < _MOST):
                if mac not in self._heard:
                    self._changed = now
                self._heard[mac] = now
        return ()


class Turn(Enum):
    """The kinds of calls to the person."""

    CONNECT = auto()
    """Nobody is there: the next device is to be connected."""
    WRONG = auto()
    """Another device is there than one whose turn it may be."""
    READY = auto()
    """One that the plan's MAC says is a row of the series."""
    ASK = auto()
    """A device is there that no row knows, and the row has no MAC:

    a person must say that it is the one.
    """


@dataclass(frozen=True, slots=True)
class Call:
    """A call to the person, with the device and the row that it is about.

    ``others`` are the devices that have the address, too.
    """

    turn: Turn
    sentence: str
    mac: Mac | None = None
    name: str = ""
    others: tuple[Mac, ...] = ()


@dataclass(frozen=True, slots=True)
class Progress:
    """How far a series is: ``waiting`` are the names that are left, the next one first.

    ``done`` are the devices that were moved, with the names they have; ``passed`` those of which a
    person said that the next row is another one.
    """

    plan: Plan
    waiting: Collection[str] = ()
    done: Mapping[Mac, str] = field(default_factory=dict)
    passed: Collection[Mac] = ()


def call(row: PlannedDevice, there: frozenset[Mac], now: Progress) -> Call:
    """Whose turn it is, when it would be a row's and some devices are there.

    Several may be there at once: each is reached by its MAC alone. One that the plan knows goes
    first, whatever its row's place in the series; of those that nobody knows, one is asked about.
    """
    place = f" ({row.place})" if row.place else ""
    if not there:
        who = f", {row.mac}" if row.mac else ""
        return Call(Turn.CONNECT, f"connect {row.name}{place}{who}")
    known = {mac: planned for mac in sorted(there) if (planned := now.plan.by_mac(mac))}
    # Who was moved from here and is here again was reset: the wire overrules the record.
    wanted = (row.name, *now.waiting)
    ready = [m for m, each in known.items() if each.name in wanted or m in now.done]
    ready.sort(key=lambda mac: known[mac].name != row.name)
    if ready:
        mac, name = ready[0], known[ready[0]].name
        others = tuple(sorted(there - {mac}))
        again = ", moved before and back at its start: it was reset" if mac in now.done else ""
        return Call(Turn.READY, f"{mac} is {name}{again}", mac, name, others)
    unknown = [mac for mac in sorted(there) if mac not in known and mac not in now.done]
    if not unknown:
        return _nobody_whose_turn(row, sorted(there), now)
    if row.mac is not None:
        mac = unknown[0]
        how = difference(mac, row.mac)
        hint = f", which {how} it: check the label and the plan" if how else ""
        return Call(Turn.WRONG, f"{row.name} is planned with {row.mac}, this is {mac}{hint}")
    mac = next((mac for mac in unknown if mac not in now.passed), unknown[0])
    others = tuple(sorted(there - {mac}))
    beside = f", one of {len(there)} at once" if others else ""
    sentence = f"{mac} is there{beside}: is it {row.name}{place}?"
    return Call(Turn.ASK, sentence, mac, row.name, others)


def _nobody_whose_turn(row: PlannedDevice, there: Sequence[Mac], now: Progress) -> Call:
    """All that are there are done, or are planned for something else."""
    mac = there[0]
    if mac in now.done:
        return Call(Turn.WRONG, f"that is {now.done[mac]} again, done before: connect {row.name}")
    named = now.plan.by_mac(mac)
    name = named.name if named else str(mac)
    return Call(Turn.WRONG, f"that is {name} by its MAC {mac}: connect {row.name}")
