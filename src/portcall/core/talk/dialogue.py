"""Questions to one device over a TCP connection: the shape that all of them share.

What is asked is a *script*: a generator that gives an ``Exchange`` and is given the reply, or None
when none came; and that gives anything else for what it found out. It reads top to bottom like the
standard's own figure. The dialogue around it does the waiting, the cutting of the stream into
messages, and the bounds::

    def script() -> Script[Learnt]:
        reply = yield Exchange(cip.encode_list_identity(), cip.whole_length)
        if reply:
            yield Learnt(...)
"""

from __future__ import annotations

from collections.abc import Callable, Generator
from typing import Generic, NamedTuple, TypeAlias, TypeVar

from portcall.core.talk.conversation import Actions, Conversation, Report, Send, StreamBytes
from portcall.core.wire.octets import Malformed

ANSWER_WAIT = 1.5
"""Seconds for each answer."""

LONGEST_REPLY = 65536
MOST_EXCHANGES = 40


class Exchange(NamedTuple):
    """A request, and how to tell where its reply ends.

    ``whole`` is given what has come so far; it gives the length of the whole reply, or None while
    that cannot be told, or raises Malformed. With ``until_close``, a connection that closes, or a
    wait that ends, ends the reply too. ``wanted`` False expects no reply at all.
    """

    request: bytes
    whole: Callable[[bytes], int | None]
    until_close: bool = False
    wanted: bool = True


L = TypeVar("L")
F = TypeVar("F")

Script: TypeAlias = Generator[Exchange | L, bytes | None, None]


class Dialogue(Conversation[StreamBytes, F], Generic[L, F]):
    """Goes through a script over an open connection; over when the script is, or at nonsense.

    ``told`` makes the fact to report of what the script found out, and when.
    """

    def __init__(self, script: Script[L], told: Callable[[L, float], F]) -> None:
        self._script = script
        self._told = told
        self._received = b""
        self._current: Exchange | None = None
        self._exchanges = 0

    def begin(self, now: float) -> Actions[StreamBytes, F]:
        """Ask the first question."""
        yield from self._go_on(None, now)

    def woke(self, now: float) -> Actions[StreamBytes, F]:
        """No answer in time."""
        yield from self._go_on(self._partial(), now)

    def heard(self, packet: StreamBytes, now: float) -> Actions[StreamBytes, F]:
        """Gather one reply."""
        if self.over or self._current is None:
            return
        if not packet.data:
            last = self._partial()
            if last is not None:
                yield from self._go_on(last, now)
            self._end()
            return
        self._received += packet.data
        try:
            whole = self._current.whole(self._received)
        except Malformed:
            self._end()
            return
        if whole is None and len(self._received) > LONGEST_REPLY:
            self._end()
        elif whole is not None and len(self._received) >= whole:
            reply, self._received = self._received[:whole], self._received[whole:]
            yield from self._go_on(reply, now)

    def _partial(self) -> bytes | None:
        if self._current is None or not self._current.until_close or not self._received:
            return None
        reply, self._received = self._received, b""
        return reply

    def _go_on(self, reply: bytes | None, now: float) -> Actions[StreamBytes, F]:
        try:
            step = next(self._script) if self._current is None else self._script.send(reply)
            while True:
                if not isinstance(step, Exchange):
                    yield Report(self._told(step, now))
                    step = next(self._script)
                    continue
                self._exchanges += 1
                if self._exchanges > MOST_EXCHANGES:
                    break
                yield Send(StreamBytes(step.request))
                if step.wanted:
                    self._current = step
                    self._received = b""
                    self.wake_at = now + ANSWER_WAIT
                    return
                self._current = step
                step = self._script.send(None)
        except (StopIteration, Malformed):
            pass
        self._end()

    def _end(self) -> None:
        self.over = True
        self.wake_at = None
        self._script.close()
