"""A long watch of targets: what changes, what is written down, and when it ends."""

from __future__ import annotations

import asyncio
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from time import monotonic

from portcall.core.adapters.adapter import Adapter
from portcall.core.reach.echo_facts import Fact, Target
from portcall.core.reach.ping import OCTETS
from portcall.core.reach.watch import Change, ReachWatch
from portcall.host.adapter_watch import cable_of
from portcall.host.runner import paced, rare_collections
from portcall.jobs.reach.asking import ask
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


@dataclass(slots=True)
class Watching:
    """One watch; ``run`` it once. Times in seconds, pace in packets a second.

    ``until_up`` ends it when every target answers, ``until_down`` when one does not, ``lasts`` when
    that time is over.
    """

    adapter: Adapter
    targets: Sequence[Target]
    pace: float | None
    interval: float
    wait: float
    tell: Tell
    refreshed: Callable[[], None]
    sizes: Sequence[int] = (OCTETS,)
    lasts: float | None = None
    until_up: bool = False
    until_down: bool = False
    log: EchoLog | None = None
    keep: Callable[[Fact], None] | None = None
    """Who else is told of every fact."""
    watch: ReachWatch = field(init=False)
    began: float = field(init=False, default_factory=monotonic)
    has_link: bool = True

    def __post_init__(self) -> None:
        self.watch = ReachWatch(self.targets)

    @property
    def reached_its_end(self) -> bool:
        """Whether what it was to wait for has come."""
        up = self.until_up and self.watch.all_up
        return up or (self.until_down and self.watch.any_down)

    async def run(self, stop: asyncio.Event) -> None:
        """Watch until ``stop`` is set, or one of the ends has come. Raises NotPossibleHere."""
        ended = asyncio.Event()

        def report(fact: Fact) -> None:
            change = self.watch.take(fact)
            if self.log is not None:
                self.log.note(fact, wall_time(fact.at))
            if self.keep is not None:
                self.keep(by_the_calendar(fact))
            if isinstance(change, Change):
                self.tell(change)
                if self.reached_its_end:
                    ended.set()

        async with cable_of(self.adapter.name) as cable:
            with rare_collections(), paced(self.adapter.name, self.pace) as runner:
                asking = asyncio.ensure_future(
                    ask(
                        runner,
                        self.adapter,
                        self.targets,
                        None,
                        self.interval,
                        self.wait,
                        report,
                        self.sizes,
                        ended,
                    )
                )
                flushed = monotonic()
                try:
                    while not (stop.is_set() or ended.is_set() or asking.done()):
                        now = monotonic()
                        if cable.has_link != self.has_link:
                            self.has_link = cable.has_link
                            self.tell(LinkChange(self.adapter.name, cable.has_link))
                        if self.log is not None and now - flushed >= _FLUSH:
                            flushed = now
                            self.log.flush()
                        if self.lasts is not None and now >= self.began + self.lasts:
                            break
                        self.refreshed()
                        await asyncio.sleep(_REFRESH)
                finally:
                    await end(asking)
                    if self.log is not None:
                        self.log.flush()
                if not asking.cancelled():
                    asking.result()
