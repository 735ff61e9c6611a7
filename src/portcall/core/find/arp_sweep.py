"""Finding by ARP: ask for every address of some ranges, twice where nobody answers.

For targets in one of the workstation's own subnets the request carries its own address. For others
it is a probe with sender address zero (RFC 5227 §1.1), which a device in a foreign subnet answers
too, and which claims nothing.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from ipaddress import IPv4Address, IPv4Interface

from portcall.core.address import UNSPECIFIED, AddressRange, Mac
from portcall.core.conversation import Actions, Conversation, Frame, Report, Send
from portcall.core.find.sighting import Method, Sighting
from portcall.core.probe import heard_arp
from portcall.core.wire import arp

ANSWER_WAIT = 0.5
"""Seconds after the last request; a loaded device answers ARP within a fraction of this."""

ROUNDS = 2
_MOST_SEEN = 200_000


class ArpSweep(Conversation[Frame, Sighting]):
    """Reports each pair of address and MAC once."""

    def __init__(
        self, own_mac: Mac, own: Sequence[IPv4Interface], ranges: Sequence[AddressRange]
    ) -> None:
        self._own_mac = own_mac
        self._own = tuple(own)
        self._ranges = tuple(ranges)
        self._answered: set[IPv4Address] = set()
        self._seen: set[tuple[Mac, IPv4Address]] = set()
        self._round = 0
        self._targets: Iterator[IPv4Address] = iter(())

    @property
    def total(self) -> int:
        """Addresses to ask for in one round."""
        return sum(len(span) for span in self._ranges)

    def begin(self, now: float) -> Actions[Frame, Sighting]:
        """Start the first round."""
        yield from self._next_round(now)

    def left(self, packet: Frame, now: float) -> Actions[Frame, Sighting]:
        """One request is out: the next."""
        yield from self._next_request(now)

    def woke(self, now: float) -> Actions[Frame, Sighting]:
        """The wait after a round is over."""
        yield from self._next_round(now)

    def heard(self, packet: Frame, now: float) -> Actions[Frame, Sighting]:
        """Take answers, also those not asked for."""
        said = heard_arp(packet)
        if said is None or said.operation is not arp.Operation.REPLY:
            return
        if said.sender_mac == self._own_mac or said.sender_address == UNSPECIFIED:
            return
        pair = (said.sender_mac, said.sender_address)
        self._answered.add(said.sender_address)
        if pair not in self._seen and len(self._seen) < _MOST_SEEN:
            self._seen.add(pair)
            yield Report(Sighting(now, Method.ARP, said.sender_mac, said.sender_address))

    def _next_round(self, now: float) -> Actions[Frame, Sighting]:
        self.wake_at = None
        if self._round == ROUNDS:
            self.over = True
            return
        self._round += 1
        self._targets = self._silent()
        yield from self._next_request(now)

    def _next_request(self, now: float) -> Actions[Frame, Sighting]:
        target = next(self._targets, None)
        if target is None:
            if self.wake_at is None and not self.over:
                self.wake_at = now + ANSWER_WAIT
            return
        sender = next((own.ip for own in self._own if target in own.network), UNSPECIFIED)
        yield Send(Frame(arp.request(self._own_mac, sender, target)))

    def _silent(self) -> Iterator[IPv4Address]:
        own_addresses = {own.ip for own in self._own}
        for span in self._ranges:
            for address in span:
                if address not in self._answered and address not in own_addresses:
                    yield address
