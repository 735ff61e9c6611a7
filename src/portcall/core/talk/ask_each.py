"""The same question to many devices by UDP: the shape that all of them share.

Each is asked once, and the silent ones again, but not who says that nobody listens there. An answer
may lead to a further question to the same device. Packets go one at a time: the next is asked for
when the last has left.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Iterable, Iterator
from ipaddress import IPv4Address
from typing import NamedTuple, Protocol

from portcall.core.catalog.catalog import Codes
from portcall.core.find.sighting import Method, Said, Sighting
from portcall.core.talk.conversation import (
    Actions,
    Conversation,
    Datagram,
    Endpoint,
    Report,
    Send,
)
from portcall.core.wire.octets import Malformed

ANSWER_WAITS = (0.6, 1.0)
"""Seconds after the last question of each round: for most devices, and for the slow ones."""

ROUNDS = len(ANSWER_WAITS)
MOST_ANSWERS = 12
"""What is taken from one device: one that answers without end is not listened to for ever."""


class Answer(NamedTuple):
    """What a device said, and what to ask it next."""

    said: tuple[Said, ...] = ()
    codes: Codes | None = None
    then: bytes | None = None


class Question(Protocol):
    """What is asked of each, and how an answer is read."""

    method: Method
    port: int

    def ask(self, address: IPv4Address, attempt: int) -> bytes:
        """The first question, at the first or the second attempt (0, 1)."""
        ...

    def read(self, address: IPv4Address, payload: bytes) -> Answer:
        """Read an answer. Raises Malformed when it is none to this question."""
        ...


class AskEach(Conversation[Datagram, Sighting]):
    """Over when all have answered, or the wait after the last round is over."""

    def __init__(self, question: Question, addresses: Iterable[IPv4Address]) -> None:
        self._question = question
        self._answers: dict[IPv4Address, int] = dict.fromkeys(addresses, 0)
        self._round = 0
        self._targets: Iterator[IPv4Address] = iter(())
        self._further: deque[Datagram] = deque()
        self._sending = False
        self.refusal: str | None = None
        """Why a question could not leave this computer, in the words that came."""

    def unsent(self, packet: Datagram, reason: str, now: float) -> Actions[Datagram, Sighting]:
        """Remember why, and go on with the others."""
        self.refusal = reason
        yield from self.left(packet, now)

    def begin(self, now: float) -> Actions[Datagram, Sighting]:
        """Start the first round."""
        yield from self.woke(now)

    def left(self, packet: Datagram, now: float) -> Actions[Datagram, Sighting]:
        """One question is out: the next."""
        self._sending = False
        yield from self._next(now)

    def woke(self, now: float) -> Actions[Datagram, Sighting]:
        """The wait after a round is over."""
        silent = [address for address, count in self._answers.items() if count == 0]
        if self._round == ROUNDS or not silent:
            self._end()
            return
        self._targets = iter(silent)
        self._round += 1
        self.wake_at = None
        yield from self._next(now)

    def _next(self, now: float) -> Actions[Datagram, Sighting]:
        if self._sending or self.over:
            return
        packet = self._further.popleft() if self._further else self._first()
        if packet is not None:
            self._sending = True
            self.wake_at = None
            yield Send(packet)
        else:
            self.wake_at = now + ANSWER_WAITS[self._round - 1]

    def _first(self) -> Datagram | None:
        for target in self._targets:
            if self._answers[target] == 0:
                request = self._question.ask(target, self._round - 1)
                return Datagram(Endpoint(target, self._question.port), request)
        return None

    def heard(self, packet: Datagram, now: float) -> Actions[Datagram, Sighting]:
        """Take an answer from one who was asked."""
        address = packet.peer.address
        count = self._answers.get(address)
        if count is None or packet.peer.port != self._question.port or count >= MOST_ANSWERS:
            return
        if packet.refused:
            self._answers[address] = MOST_ANSWERS
            return
        try:
            answer = self._question.read(address, packet.payload)
        except Malformed:
            return
        self._answers[address] = count + 1
        if answer.then is not None:
            self._further.append(Datagram(packet.peer, answer.then))
        yield Report(
            Sighting(
                now,
                self._question.method,
                address=address,
                said=answer.said,
                codes=answer.codes,
            )
        )
        if self._further and not self._sending:
            yield from self._next(now)

    def _end(self) -> None:
        self.over = True
        self.wake_at = None
