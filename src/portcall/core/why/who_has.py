"""Asking by ARP for a few addresses at once, and overhearing which subnets are heard."""

from __future__ import annotations

from collections.abc import Mapping
from ipaddress import IPv4Address

from portcall.core.address import UNSPECIFIED, Mac
from portcall.core.talk.conversation import Actions, Conversation, Frame, Report, Send
from portcall.core.talk.frames import heard_arp
from portcall.core.wire import arp

EVERY = 0.12
"""Seconds between two questions for the same address."""

PATIENCE = 0.5
"""Seconds in which a device answers that has nothing against it."""

MOST_ANSWERS = 16
"""MACs that are kept for one address: two are a conflict, and more do not say more."""

_MOST_OVERHEARD = 256
_FOR_ALL = 2
"""Rounds in which those are asked for, too, that have answered."""


class WhoHas(Conversation[Frame, tuple[IPv4Address, Mac]]):
    """Asks for each address as the sender given with it, 0.0.0.0 for a probe (RFC 5227 §2.1.1).

    Reports each pair of address and MAC once. Everybody is asked for twice, since of two that have
    an address one may not have been heard; the silent are asked for to the end.
    """

    def __init__(
        self,
        own_mac: Mac,
        questions: Mapping[IPv4Address, IPv4Address],
        patience: float = PATIENCE,
    ) -> None:
        self._own_mac = own_mac
        self._questions = dict(questions)
        self._patience = patience
        self._until = 0.0
        self._rounds = 0
        self.answers: dict[IPv4Address, list[Mac]] = {}
        self.overheard: dict[IPv4Address, Mac] = {}
        """Who else spoke ARP meanwhile."""

    def begin(self, now: float) -> Actions[Frame, tuple[IPv4Address, Mac]]:
        """Ask."""
        self._until = now + self._patience
        yield from self.woke(now)

    def woke(self, now: float) -> Actions[Frame, tuple[IPv4Address, Mac]]:
        """Ask again, or end: when time is up, and after PATIENCE when all have answered."""
        usual = self._until - self._patience + PATIENCE
        if now >= self._until or (now >= usual and all(map(self.answers.get, self._questions))):
            self._end()
            return
        # Ask a device less often the longer it is silent.
        self.wake_at = min(now + (EVERY if now < usual else 1.0), self._until)
        self._rounds += 1
        # The last wait only listens for late answers.
        if now + EVERY < self._until:
            for address, sender in self._questions.items():
                if self._rounds <= _FOR_ALL or not self.answers.get(address):
                    yield Send(Frame(arp.encode_request(self._own_mac, sender, address)))

    def heard(self, packet: Frame, now: float) -> Actions[Frame, tuple[IPv4Address, Mac]]:
        """Take answers, and who else speaks."""
        said = heard_arp(packet)
        if said is None or self.over or said.sender_mac == self._own_mac:
            return
        if said.sender_address == UNSPECIFIED:
            return
        # The answer of a cluster may have a group's MAC, which several computers listen to.
        if said.sender_address in self._questions:
            macs = self.answers.setdefault(said.sender_address, [])
            if said.sender_mac not in macs and len(macs) < MOST_ANSWERS:
                macs.append(said.sender_mac)
                yield Report((said.sender_address, said.sender_mac))
        elif len(self.overheard) < _MOST_OVERHEARD and not said.sender_mac.is_group:
            self.overheard[said.sender_address] = said.sender_mac

    def _end(self) -> None:
        self.over = True
        self.wake_at = None
