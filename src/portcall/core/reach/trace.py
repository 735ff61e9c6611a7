"""The way to a target, hop by hop, all hops side by side.

Questions with rising time to live: the router at which it runs out says so (RFC 792, Time
Exceeded). What is asked with, echoes or attempts at a door, is the medium's matter.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from enum import Enum
from ipaddress import IPv4Address
from statistics import median
from typing import NamedTuple

from portcall.core.talk.conversation import Actions, Conversation, Report, SendEach

MOST_HOPS = 30
TRIES = 3
AT_ONCE = 10
"""Hops that are asked side by side: a target that is near is not asked thirty times."""

ANSWER_WAIT = 0.8
"""Seconds that answers are waited for after the last question of a wave."""

_USUAL_STARTS = (32, 64, 128, 255)
"""With what time to live devices begin."""


class HopSays(Enum):
    """The kinds of answers."""

    PASSED_ON = "passed on"
    REACHED = "reached"
    STOPPED = "stopped"


class HopPacket(NamedTuple):
    """A question with a time to live, told by a number of its own; or what was said to it.

    ``left`` is the answer's own time to live on arrival; ``reason`` why it was stopped.
    """

    hops: int
    number: int
    said: HopSays | None = None
    by: IPv4Address | None = None
    left: int | None = None
    reason: str = ""


@dataclass(slots=True)
class Hop:
    """One hop: who answered, of how many questions, with which times."""

    hops: int
    sent: int = 0
    by: list[IPv4Address] = field(default_factory=list)
    times: list[float] = field(default_factory=list)
    said: HopSays | None = None
    reason: str = ""
    left: int | None = None

    @property
    def loss(self) -> float:
        """The share that was not answered, 0 to 1."""
        return 1 - len(self.times) / self.sent if self.sent else 0.0

    @property
    def middle(self) -> float | None:
        """The median of its times, in seconds."""
        return median(self.times) if self.times else None


class Trace(Conversation[HopPacket, Hop]):
    """Asks; reports nothing, and has the ``path`` when it is over."""

    def __init__(self, first: int = 1) -> None:
        self._hops = {n: Hop(n) for n in range(1, MOST_HOPS + 1)}
        self._first = first
        self._asked: dict[int, tuple[int, float]] = {}
        self._open: set[int] = set()
        self._wave = 0
        self._ends_at = MOST_HOPS
        """The hop at which it ends, once that is known."""

    def begin(self, now: float) -> Actions[HopPacket, Hop]:
        """The first wave."""
        yield SendEach(self._questions())

    def _questions(self) -> Iterator[HopPacket]:
        hops = range(self._wave * AT_ONCE + 1, min((self._wave + 1) * AT_ONCE, MOST_HOPS) + 1)
        for _ in range(TRIES):
            for n in hops:
                # An answer that arrived meanwhile decides: do not ask beyond the end of the path.
                if n <= self._ends_at:
                    yield HopPacket(n, self._first + len(self._asked))

    def left(self, packet: HopPacket, now: float) -> Actions[HopPacket, Hop]:
        """A question is out."""
        self._asked[packet.number] = (packet.hops, now)
        self._open.add(packet.number)
        self._hops[packet.hops].sent += 1
        yield from ()

    def unsent(self, packet: HopPacket, reason: str, now: float) -> Actions[HopPacket, Hop]:
        """This computer does not let it out: nobody else will say why."""
        hop = self._hops[packet.hops]
        hop.said, hop.reason = HopSays.STOPPED, reason
        self._ends_at = min(self._ends_at, packet.hops)
        self._asked[packet.number] = (packet.hops, now)
        yield from ()

    def all_left(self, now: float) -> Actions[HopPacket, Hop]:
        """A wave is out."""
        self.wake_at = now + ANSWER_WAIT
        yield from self._end_if_all_answered(now)

    def heard(self, packet: HopPacket, now: float) -> Actions[HopPacket, Hop]:
        """An answer; the first one to a question counts."""
        asked = self._asked.get(packet.number)
        if asked is None or packet.number not in self._open or packet.said is None:
            return
        self._open.discard(packet.number)
        number, sent = asked
        hop = self._hops[number]
        hop.times.append(max(now - sent, 0.0))
        if packet.by is not None and packet.by not in hop.by:
            hop.by.append(packet.by)
        if hop.said is not HopSays.REACHED:
            hop.said, hop.reason = packet.said, packet.reason
        if packet.said is HopSays.REACHED:
            hop.left = packet.left
        if packet.said is not HopSays.PASSED_ON:
            self._ends_at = min(self._ends_at, number)
        yield from self._end_if_all_answered(now)

    def _end_if_all_answered(self, now: float) -> Actions[HopPacket, Hop]:
        wanted = {n for n in self._open if self._asked[n][0] <= self._ends_at}
        if self.wake_at is not None and not wanted:
            yield from self.woke(now)

    def woke(self, now: float) -> Actions[HopPacket, Hop]:
        """The wait is over: the next wave, or the end."""
        self._wave += 1
        self.wake_at = None
        if self._ends_at < MOST_HOPS or self._wave * AT_ONCE >= MOST_HOPS or self._is_silent:
            self.over = True
            for hop in self.path:
                yield Report(hop)
            return
        yield SendEach(self._questions())

    @property
    def _is_silent(self) -> bool:
        """Whether the whole last wave was silent: nothing further on will answer."""
        last = range((self._wave - 1) * AT_ONCE + 1, self._wave * AT_ONCE + 1)
        return not any(self._hops[n].times for n in last)

    @property
    def path(self) -> list[Hop]:
        """The hops up to the end, or up to the last that said anything."""
        told = [n for n, hop in self._hops.items() if hop.times or hop.said]
        last = min(self._ends_at, max(told, default=0))
        return [self._hops[n] for n in range(1, last + 1)]


def way_back(path: Sequence[Hop]) -> str:
    """Whether answers come back over as many routers, as far as their time to live tells."""
    end = path[-1] if path else None
    if end is None or end.said is not HopSays.REACHED or end.left is None:
        return ""
    start = next(start for start in _USUAL_STARTS if end.left <= start)
    back, there = start - end.left, end.hops - 1
    if back == there:
        return f"it comes back over as many routers ({back})"
    return (
        f"it goes over {there} routers, and comes back over {back}, if its answers begin with a "
        f"time to live of {start}: by another way"
    )
