"""Asking everybody the same question at once: the shape that all such methods share.

It is asked twice, because a broadcast is lost more easily than any other packet. The conversation
is over when the wait for answers to the second asking has ended.
"""

from __future__ import annotations

from collections.abc import Iterable
from typing import Generic, TypeVar

from portcall.core.talk.conversation import Actions, Conversation, Send

P = TypeVar("P")
F = TypeVar("F")

ASK_TIMES = 2


class AskAll(Conversation[P, F], Generic[P, F]):
    """``wait`` is how many seconds answers to each asking are waited for; a subclass gives the
    ``question``.
    """

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
