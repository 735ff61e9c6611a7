"""Devices that all start at one address, connected one after the other.

Who is there, and is it the device whose turn it is?
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
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
    """What to do about who is there."""

    CONNECT = auto()
    """Nobody is there: the next device is to be connected."""
    WRONG = auto()
    """Another device is there than the one whose turn it is, or more than one."""
    READY = auto()
    """The one that the plan's MAC says."""
    ASK = auto()
    """A device is there that no row knows, and the row has no MAC:

    a person must say that it is the one.
    """


@dataclass(frozen=True, slots=True)
class Call:
    """What to do, in a sentence for the person, and with which device."""

    turn: Turn
    sentence: str
    mac: Mac | None = None


def call(row: PlannedDevice, there: frozenset[Mac], plan: Plan, done: Mapping[Mac, str]) -> Call:
    """Whose turn it is, who is there, which rows there are, and who was moved before, by MAC."""
    place = f" ({row.place})" if row.place else ""
    if not there:
        who = f", {row.mac}" if row.mac else ""
        return Call(Turn.CONNECT, f"connect {row.name}{place}{who}")
    if len(there) > 1:
        listed = " and ".join(str(mac) for mac in sorted(there))
        return Call(Turn.WRONG, f"{len(there)} devices at once, {listed}: leave only {row.name}")
    (mac,) = there
    if mac in done:
        return Call(Turn.WRONG, f"that is {done[mac]} again, done before: connect {row.name}")
    other = plan.by_mac(mac)
    if row.mac == mac:
        return Call(Turn.READY, f"{mac} is {row.name}", mac)
    if other is not None:
        return Call(Turn.WRONG, f"that is {other.name} by its MAC {mac}: connect {row.name}")
    if row.mac is not None:
        how = difference(mac, row.mac)
        hint = f", which {how} it: check the label and the plan" if how else ""
        return Call(Turn.WRONG, f"{row.name} is planned with {row.mac}, this is {mac}{hint}")
    return Call(Turn.ASK, f"{mac} is there: is it {row.name}{place}?", mac)
