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

_LONGEST_HELD = 15.0
"""Seconds that a question may be kept back in this computer, which paces what it sends."""

LONGEST_REPLY = 262_144
MOST_EXCHANGES = 40


class Exchange(NamedTuple):
    """A request, how to tell where a reply ends, and how to tell whether it is the reply to this.

    ``whole`` is given what has come so far; it gives the length of the whole message, or None while
    that cannot be told, or raises Malformed. ``answers`` is given the request and a whole message;
    it is None for a protocol that numbers nothing. With ``until_close``, a connection that closes,
    or a wait that ends, ends the reply too. ``wanted`` False expects no reply at all. ``wait`` is
    how many seconds a reply may take once the request has left. ``rest`` leaves the device to
    others before it is asked: so many times as long as it took for the last reply. ``times`` tells
    of a reply whether it came from whom the question was for, so that its time says how fast that
    is.
    """

    request: bytes
    whole: Callable[[bytes], int | None]
    answers: Callable[[bytes, bytes], bool] | None = None
    until_close: bool = False
    wanted: bool = True
    wait: float = ANSWER_WAIT
    rest: float = 0.0
    times: Callable[[bytes], bool] | None = None


L = TypeVar("L")
F = TypeVar("F")

Script: TypeAlias = Generator[Exchange | L, bytes | None, None]


class Dialogue(Conversation[StreamBytes, F], Generic[L, F]):
    """Goes through a script over an open connection.

    It is over when the script is, or when the device sends what cannot be read. ``told`` makes the
    fact to report, of what the script found out and when. ``most`` bounds the questions.

    One that ``resumes`` does not end its script when the connection ends: a question that was open
    then has no reply, and the next one is ``left_over``, for another dialogue over another
    connection, which begins with that as its ``first``.
    """

    def __init__(
        self,
        script: Script[L],
        told: Callable[[L, float], F],
        most: int = MOST_EXCHANGES,
        *,
        resumes: bool = False,
        first: Exchange | None = None,
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
        self._resumes = resumes
        self._first = first
        self.left_over: Exchange | None = None
        self.answered = False
        """Whether any question was answered."""
        self._held: Exchange | None = None
        """What is asked when the device was left alone for long enough."""
        self._is_closed = False
        self._asked = 0.0
        self._took = 0.0
        self.slowest = 0.0
        """Seconds that the slowest reply took; who reads it may reset it."""

    def begin(self, now: float) -> Actions[StreamBytes, F]:
        """Ask the first question."""
        if self._first is not None:
            yield from self._ask(self._first, now)
        else:
            yield from self._go_on(None, now)

    def left(self, packet: StreamBytes, now: float) -> Actions[StreamBytes, F]:
        """The question has left: from now on its answer is waited for."""
        current = self._current
        if not self.over and self._held is None and current and packet.data is current.request:
            self._asked = now
            if current.wanted:
                self.wake_at = now + current.wait
        yield from ()

    def woke(self, now: float) -> Actions[StreamBytes, F]:
        """No answer in time.

        Where nothing numbers the answers, one that comes later would be taken for the answer to
        another question: nothing more is asked over this connection.
        """
        if self._held is not None:
            held, self._held = self._held, None
            yield from self._ask(held, now)
            return
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
        if packet.data and self._held is not None:
            # It answers what it was given up for: that is passed over before the next answer.
            self._received += packet.data[: LONGEST_REPLY - len(self._received)]
            return
        if not packet.data:
            last = self._partial() if self._held is None else None
            if last is not None:
                yield from self._go_on(last, now)
            elif self._resumes:
                yield from self._closed(now)
            self._end()
            return
        self._received += packet.data
        while not self.over and (message := self._take_message()) is not None:
            if self._is_answer(message):
                self.answered = True
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
        current = self._current
        if current is not None:
            self._took = now - self._asked
            if reply is not None and (current.times is None or current.times(reply)):
                self.slowest = max(self.slowest, self._took)
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
                if self._is_closed or step.rest * self._took > 0:
                    self._held, self.wake_at = step, now + step.rest * self._took
                    return
                yield from self._ask(step, now)
                if step.wanted:
                    return
                step = self._script.send(None)
        except (StopIteration, Malformed):
            pass
        self._end()

    def _closed(self, now: float) -> Actions[StreamBytes, F]:
        """The connection is gone, and the script goes on over another one."""
        self._is_closed = True
        if self._held is None:
            yield from self._go_on(None, now)
        self.left_over, self._held = self._held, None

    def _ask(self, step: Exchange, now: float) -> Actions[StreamBytes, F]:
        self._current, self._asked = step, now
        if step.wanted:
            self.wake_at = now + _LONGEST_HELD
        yield Send(StreamBytes(step.request))

    def _end(self) -> None:
        self.over = True
        self.wake_at = None
        if self.left_over is None:
            self._script.close()


def one_after_the_other(scripts: Sequence[Callable[[], Script[L]]]) -> Script[L]:
    """Several scripts over one connection; one that reads nonsense ends, and the next goes on."""
    for script in scripts:
        with suppress(Malformed):
            yield from script()
