"""Asking one device several questions over a TCP connection: the shape that all such methods share.

What is asked is a *script*: a generator. When it yields an ``Exchange``, it is sent the reply, or
None when no reply came. Anything else that it yields is something it found out. So a script reads
from top to bottom like the figure in the standard. The dialogue around it does the waiting, cuts
the stream into messages, and keeps to the bounds. An example::

    def script() -> Script[Learnt]:
        reply = yield Exchange(cip.encode_list_identity(), cip.whole_length, cip.is_answer)
        if reply:
            yield Learnt(...)
"""

from __future__ import annotations

from collections.abc import Callable, Generator, Sequence
from contextlib import suppress
from typing import Generic, NamedTuple, TypeAlias, TypeVar

from portcall.core.talk.conversation import Actions, Conversation, Report, Send, StreamBytes
from portcall.core.wire.octets import Malformed

ANSWER_WAIT = 1.5
"""Seconds for each answer."""

LONGEST_REPLY = 262_144
MOST_EXCHANGES = 40


class Exchange(NamedTuple):
    """A request, how to tell where a reply ends, and how to tell whether it is the reply to this.

    ``whole`` is given what has come so far; it gives the length of the whole message, or None while
    that cannot be told, or raises Malformed. ``answers`` is given the request and a whole message;
    it is None for a protocol that numbers nothing. With ``until_close``, a connection that closes,
    or a wait that ends, ends the reply too. ``wanted`` False expects no reply at all. ``wait`` is
    how many seconds a reply may take.
    """

    request: bytes
    whole: Callable[[bytes], int | None]
    answers: Callable[[bytes, bytes], bool] | None = None
    until_close: bool = False
    wanted: bool = True
    wait: float = ANSWER_WAIT


L = TypeVar("L")
F = TypeVar("F")

Script: TypeAlias = Generator[Exchange | L, bytes | None, None]


class Dialogue(Conversation[StreamBytes, F], Generic[L, F]):
    """Goes through a script over an open connection.

    It is over when the script is, or when the device sends what cannot be read. ``told`` makes the
    fact to report, of what the script found out and when. ``most`` bounds the questions.
    """

    def __init__(
        self, script: Script[L], told: Callable[[L, float], F], most: int = MOST_EXCHANGES
    ) -> None:
        self._script = script
        self._told = told
        self._most = most
        self._received = b""
        self._current: Exchange | None = None
        self._exchanges = 0
        self._late = 0
        """Questions whose answers did not come in time, and may still come."""
        self._is_spent = False
        """Whether a later message could be taken for the answer to something else."""

    def begin(self, now: float) -> Actions[StreamBytes, F]:
        """Ask the first question."""
        yield from self._go_on(None, now)

    def woke(self, now: float) -> Actions[StreamBytes, F]:
        """No answer in time.

        Where nothing numbers the answers, one that comes later would be taken for the answer to
        another question: nothing more is asked over this connection.
        """
        reply = self._partial()
        if self._current is not None and self._current.answers is None:
            self._is_spent = True
        else:
            self._late += 1
        yield from self._go_on(reply, now)

    def heard(self, packet: StreamBytes, now: float) -> Actions[StreamBytes, F]:
        """Gather replies; a message that answers another question is passed over."""
        if self.over or self._current is None:
            return
        if not packet.data:
            last = self._partial()
            if last is not None:
                yield from self._go_on(last, now)
            self._end()
            return
        self._received += packet.data
        while not self.over and (message := self._take_message()) is not None:
            if self._is_answer(message):
                yield from self._go_on(message, now)
            elif self._late > 0:
                # The device answers its questions one after the other, and is that far behind.
                self._late -= 1
                self.wake_at = now + self._current.wait

    def _take_message(self) -> bytes | None:
        """The first whole message of what has come; what is behind it stays for the next."""
        if self._current is None or not self._received:
            return None
        try:
            length = self._current.whole(self._received)
        except Malformed:
            self._end()
            return None
        if length is None or len(self._received) < length:
            if len(self._received) > LONGEST_REPLY:
                self._end()
            return None
        message, self._received = self._received[:length], self._received[length:]
        return message

    def _is_answer(self, message: bytes) -> bool:
        assert self._current is not None
        if self._current.answers is None:
            # Nobody asked for the bytes after it, and they would be taken for the next answer.
            self._is_spent = bool(self._received)
            return True
        try:
            return self._current.answers(self._current.request, message)
        except Malformed:
            return False

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
                if self._exchanges > self._most or self._is_spent:
                    break
                yield Send(StreamBytes(step.request))
                self._current = step
                if step.wanted:
                    self.wake_at = now + step.wait
                    return
                step = self._script.send(None)
        except (StopIteration, Malformed):
            pass
        self._end()

    def _end(self) -> None:
        self.over = True
        self.wake_at = None
        self._script.close()


def one_after_the_other(scripts: Sequence[Callable[[], Script[L]]]) -> Script[L]:
    """Several scripts over one connection; one that reads nonsense ends, and the next goes on."""
    for script in scripts:
        with suppress(Malformed):
            yield from script()
