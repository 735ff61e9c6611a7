"""A long watch of targets: what changes, what is written down, and when it ends."""

from __future__ import annotations

import asyncio
from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from functools import partial
from time import monotonic

from portcall.core.reach.echo_facts import Fact
from portcall.core.reach.watch import ReachWatch
from portcall.host.adapter_watch import Cable, cable_of
from portcall.host.runner import paced, rare_collections
from portcall.jobs.reach.asking import Rounds, ask
from portcall.jobs.telling import Tell
from portcall.jobs.together import end
from portcall.site.echo_log import EchoLog

_REFRESH = 0.25
_FLUSH = 1.0


@dataclass(frozen=True, slots=True)
class LinkChange:
    """The adapter lost its link, or has it again."""

    adapter: str
    has_link: bool

    def __str__(self) -> str:
        return f"{self.adapter} {'has its link again' if self.has_link else 'lost its link'}"


def wall_time(at: float) -> datetime:
    """When a moment of the monotonic clock was, by the calendar."""
    return datetime.now(UTC) - timedelta(seconds=monotonic() - at)


def by_the_calendar(fact: Fact) -> Fact:
    """A fact whose time is that of the calendar: seconds since 1970."""
    return fact._replace(at=wall_time(fact.at).timestamp())


@dataclass(frozen=True, slots=True)
class Ends:
    """When a watch ends by itself: after so many seconds, when every target answers, or when one
    does not.
    """

    lasts: float | None = None
    until_up: bool = False
    until_down: bool = False


@dataclass(slots=True)
class Watching:
    """One watch; ``run`` it once.

    ``tell`` is told of changes, ``keep`` of every fact, by the calendar; ``refreshed`` is called
    several times a second.
    """

    rounds: Rounds
    ends: Ends
    tell: Tell
    refreshed: Callable[[], None]
    log: EchoLog | None = None
    keep: Callable[[Fact], None] | None = None
    watch: ReachWatch = field(init=False)
    began: float = field(init=False, default_factory=monotonic)
    has_link: bool = True
    _flushed: float = 0.0

    def __post_init__(self) -> None:
        self.watch = ReachWatch(self.rounds.targets)

    @property
    def has_come(self) -> bool:
        """Whether what it was to wait for has come."""
        up = self.ends.until_up and self.watch.all_up
        return up or (self.ends.until_down and self.watch.any_down)

    async def run(self, stop: asyncio.Event) -> None:
        """Watch until ``stop`` is set, or one of the ends has come. Raises NotPossibleHere."""
        ended = asyncio.Event()
        name = self.rounds.adapter.name
        report = partial(self._take, ended)
        async with cable_of(name) as cable:
            with rare_collections(), paced(name, self.rounds.pace) as runner:
                asking = asyncio.ensure_future(ask(runner, self.rounds, None, report, ended))
                try:
                    while not (stop.is_set() or ended.is_set() or asking.done()):
                        self._look_after(cable)
                        lasts = self.ends.lasts
                        if lasts is not None and monotonic() >= self.began + lasts:
                            break
                        self.refreshed()
                        await asyncio.sleep(_REFRESH)
                finally:
                    await end(asking)
                    if self.log is not None:
                        self.log.flush()
                if not asking.cancelled():
                    asking.result()

    def _take(self, ended: asyncio.Event, fact: Fact) -> None:
        change = self.watch.take(fact)
        if self.log is not None:
            self.log.note(fact, wall_time(fact.at))
        if self.keep is not None:
            self.keep(by_the_calendar(fact))
        if change is not None:
            self.tell(change)
            if self.has_come:
                ended.set()

    def _look_after(self, cable: Cable) -> None:
        """Tell of the cable, and have what was noted on the disk every second."""
        if cable.has_link != self.has_link:
            self.has_link = cable.has_link
            self.tell(LinkChange(self.rounds.adapter.name, cable.has_link))
        if self.log is not None and monotonic() >= self._flushed + _FLUSH:
            self._flushed = monotonic()
            self.log.flush()
