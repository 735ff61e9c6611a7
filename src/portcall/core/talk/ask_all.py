"""The same question to everybody at once: the shape that all of them share.

Asked twice, since a broadcast is lost more easily than anything else; over when the wait after the
second is over.
"""

from __future__ import annotations

from collections.abc import Iterable
from typing import Generic, TypeVar

from portcall.core.talk.conversation import Actions, Conversation, Send

P = TypeVar("P")
F = TypeVar("F")

ASK_TIMES = 2


class AskAll(Conversation[P, F], Generic[P, F]):
    """``wait`` is the seconds for answers to each asking; who uses it says the ``question``."""

    def __init__(self, wait: float) -> None:
        self._wait = wait
        self._asks_left = ASK_TIMES

    def question(self) -> Iterable[P]:
        """The packets that ask."""
        raise NotImplementedError

    def begin(self, now: float) -> Actions[P, F]:
        """Ask."""
        yield from self.woke(now)

    def woke(self, now: float) -> Actions[P, F]:
        """Ask again, or end."""
        if self._asks_left == 0:
            self.over = True
            self.wake_at = None
            return
        self._asks_left -= 1
        self.wake_at = now + self._wait
        for packet in self.question():
            yield Send(packet)
