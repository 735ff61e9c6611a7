"""Asking many devices the same question by UDP: the shape that all such methods share.

Each device is asked once. Those that stay silent are asked again, but not those that say that
nobody listens there. Packets go one at a time: the next one is asked for when the last one has
left.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from ipaddress import IPv4Address
from typing import Generic, Protocol, TypeVar

from portcall.core.talk.conversation import (
    Actions,
    Conversation,
    Datagram,
    Endpoint,
    Report,
    Send,
)
from portcall.core.wire.octets import Malformed

L = TypeVar("L", covariant=True)
F = TypeVar("F")

ANSWER_WAITS = (0.6, 1.0)
"""Seconds after the last question of each round: for most devices, and for the slow ones."""

ROUNDS = len(ANSWER_WAITS)
MOST_ANSWERS = 12
"""The most answers taken from one device: one that answers without end is not listened to for ever.
"""


class Question(Protocol[L]):
    """The question to each device, and the reading of an answer."""

    port: int

    def ask(self, address: IPv4Address, attempt: int) -> bytes:
        """The first question, at the first or the second attempt (0, 1)."""
        ...

    def read(self, address: IPv4Address, payload: bytes) -> L:
        """The contents of an answer. Raises Malformed when it is none to this question."""
        ...


class AskEach(Conversation[Datagram, F], Generic[L, F]):
    """The conversation is over when all have answered, or when the wait after the last round has
    ended.

    ``told`` makes the fact to report, of the address that answered, what its answer tells, and
    when.
    """

    def __init__(
        self,
        question: Question[L],
        addresses: Iterable[IPv4Address],
        told: Callable[[IPv4Address, L, float], F],
    ) -> None:
        self._question = question
        self._told = told
        self._answers: dict[IPv4Address, int] = dict.fromkeys(addresses, 0)
        self._round = 0
        self._targets: Iterator[IPv4Address] = iter(())
        self._sending = False
        self.refusal: str | None = None
        """Why a question could not leave this computer, in the operating system's words."""

    @property
    def silent(self) -> list[IPv4Address]:
        """The addresses that have neither answered nor refused."""
        return [address for address, count in self._answers.items() if count == 0]

    def unsent(self, packet: Datagram, reason: str, now: float) -> Actions[Datagram, F]:
        """Remember why, and go on with the others."""
        self.refusal = reason
        yield from self.left(packet, now)

    def begin(self, now: float) -> Actions[Datagram, F]:
        """Start the first round."""
        yield from self.woke(now)

    def left(self, packet: Datagram, now: float) -> Actions[Datagram, F]:
        """One question is out: the next."""
        self._sending = False
        yield from self._next(now)

    def woke(self, now: float) -> Actions[Datagram, F]:
        """The wait after a round is over."""
        silent = self.silent
        if self._round == ROUNDS or not silent:
            self._end()
            return
        self._targets = iter(silent)
        self._round += 1
        self.wake_at = None
        yield from self._next(now)

    def _next(self, now: float) -> Actions[Datagram, F]:
        if self._sending or self.over:
            return
        packet = self._question_to_next()
        if packet is not None:
            self._sending = True
            self.wake_at = None
            yield Send(packet)
        else:
            self.wake_at = now + ANSWER_WAITS[self._round - 1]

    def _question_to_next(self) -> Datagram | None:
        for target in self._targets:
            if self._answers[target] == 0:
                request = self._question.ask(target, self._round - 1)
                return Datagram(Endpoint(target, self._question.port), request)
        return None

    def heard(self, packet: Datagram, now: float) -> Actions[Datagram, F]:
        """Take an answer from one who was asked."""
        address = packet.peer.address
        count = self._answers.get(address)
        if count is None or packet.peer.port != self._question.port or count >= MOST_ANSWERS:
            return
        if packet.refused:
            self._answers[address] = MOST_ANSWERS
            return
        try:
            learnt = self._question.read(address, packet.payload)
        except Malformed:
            return
        self._answers[address] = count + 1
        yield Report(self._told(address, learnt, now))

    def _end(self) -> None:
        self.over = True
        self.wake_at = None
