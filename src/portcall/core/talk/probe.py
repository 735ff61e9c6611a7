"""Is an address free? ARP probes before one is taken or given (RFC 5227 §2.1.1)."""

from __future__ import annotations

from dataclasses import dataclass
from ipaddress import IPv4Address

from portcall.core.address import UNSPECIFIED, Mac
from portcall.core.talk.conversation import Actions, Conversation, Frame, Report, Send
from portcall.core.talk.frames import heard_arp
from portcall.core.wire import arp

PROBE_COUNT = 3
PROBE_INTERVAL = 1.0
"""RFC 5227 §1.1, PROBE_MIN.

The RFC adds a random spread for many hosts that power up at once; here a person presses Enter, at a
random moment.
"""
ANNOUNCE_WAIT = 2.0
PROBE_TIME = (PROBE_COUNT - 1) * PROBE_INTERVAL + ANNOUNCE_WAIT
"""Seconds from the first probe until an address may be used."""


@dataclass(frozen=True, slots=True)
class Free:
    """Nobody answered for the address."""

    address: IPv4Address


@dataclass(frozen=True, slots=True)
class Taken:
    """Somebody has it, or is probing for it at the same time."""

    address: IPv4Address
    mac: Mac

    def __str__(self) -> str:
        return f"{self.address} is taken, {self.mac} has it"


class AddressProbe(Conversation[Frame, Free | Taken]):
    """Asks three times who has the address; reports Taken at once, Free at the end."""

    def __init__(self, own_mac: Mac, address: IPv4Address) -> None:
        self._own_mac = own_mac
        self._address = address
        self._probes_left = PROBE_COUNT

    def begin(self, now: float) -> Actions[Frame, Free | Taken]:
        """Send the first probe."""
        yield from self._probe(now)

    def _probe(self, now: float) -> Actions[Frame, Free | Taken]:
        self._probes_left -= 1
        self.wake_at = now + (PROBE_INTERVAL if self._probes_left else ANNOUNCE_WAIT)
        yield Send(Frame(arp.encode_request(self._own_mac, UNSPECIFIED, self._address)))

    def heard(self, packet: Frame, now: float) -> Actions[Frame, Free | Taken]:
        """RFC 5227 §2.1.1: any ARP from this address, or another's probe for it, is a conflict."""
        said = heard_arp(packet)
        if said is None or said.sender_mac == self._own_mac or self.over:
            return
        rival = said.is_probe and said.target_address == self._address
        if said.sender_address == self._address or rival:
            self._end()
            yield Report(Taken(self._address, said.sender_mac))

    def woke(self, now: float) -> Actions[Frame, Free | Taken]:
        """Probe again, or conclude."""
        if self._probes_left:
            yield from self._probe(now)
        else:
            self._end()
            yield Report(Free(self._address))

    def _end(self) -> None:
        self.over = True
        self.wake_at = None
