"""A long watch of targets: what changes, what is written down, and when it ends."""

from __future__ import annotations

import asyncio
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime, timedelta
from functools import partial
from ipaddress import IPv4Address
from time import monotonic

from portcall.core.finding import Finding
from portcall.core.plan.rows import Plan
from portcall.core.reach.echo_facts import Fact, Target, address_of
from portcall.core.reach.watch import ReachWatch
from portcall.core.trouble import NotPossibleHere
from portcall.host.adapter_watch import Cable, cable_of
from portcall.host.pace import paced
from portcall.host.runner import Runner, rare_collections
from portcall.jobs.reach.asking import Rounds, ask_all
from portcall.jobs.reach.reach import SAYS_LITTLE
from portcall.jobs.reach.standing import placed
from portcall.jobs.telling import Tell
from portcall.jobs.together import end
from portcall.jobs.why.reasons import Silence, reasons
from portcall.jobs.workstation.adapters import adapters_now
from portcall.site.echo_log import EchoLog
from portcall.site.folder import Site

_REFRESH = 0.25
_FLUSH = 1.0


@dataclass(frozen=True, slots=True)
class LinkChange:
    """The adapter lost its link, or has it again."""

    adapter: str
    has_link: bool
    is_there: bool = True

    def __str__(self) -> str:
        if not self.is_there:
            return f"{self.adapter} is gone from this computer"
        return f"{self.adapter} {'has its link again' if self.has_link else 'lost its link'}"


@dataclass(frozen=True, slots=True)
class Reason:
    """Why a target that went down does not answer, as far as one question to the wire tells."""

    target: Target
    finding: Finding


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
class EchoWatch:
    """One watch; ``run`` it once.

    ``tell`` is told of changes, ``keep`` of every fact, by the calendar; ``refreshed`` is called
    several times a second.
    """

    rounds: Rounds
    ends: Ends
    plan: Plan
    site: Site
    tell: Tell
    refreshed: Callable[[], None]
    log: EchoLog | None = None
    keep: Callable[[Fact], None] | None = None
    watch: ReachWatch = field(init=False)
    began: float = field(init=False, default_factory=monotonic)
    has_link: bool = True
    _flushed: float = 0.0
    _losses: int = 0
    _places: int = 0
    _silent: dict[IPv4Address, Target] = field(default_factory=dict)
    """Targets that went down, and of which nothing more is known yet."""

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
            while await self._ask(report, ended, stop, cable):
                # An adapter that was pulled out and plugged in again has a new index, and old
                # sockets do not see it.
                own = (each for each in adapters_now() if each.name == name)
                self.rounds = replace(self.rounds, adapter=next(own, self.rounds.adapter))

    async def _ask(
        self,
        report: Callable[[Fact], None],
        ended: asyncio.Event,
        stop: asyncio.Event,
        cable: Cable,
    ) -> bool:
        """Ask until the watch is over; True when the adapter was plugged in anew, and is to be
        asked by again.
        """
        returns = cable.returns
        with rare_collections(), paced(self.rounds.adapter.name, self.rounds.pace) as runner:
            asking = asyncio.ensure_future(self._ask_from_there(runner, report, ended))
            explaining = asyncio.ensure_future(self._explain(runner, cable))
            try:
                while not (stop.is_set() or ended.is_set() or asking.done()):
                    await self._look_after(cable)
                    lasts = self.ends.lasts
                    if lasts is not None and self._places and monotonic() >= self.began + lasts:
                        break
                    if cable.returns != returns and cable.has_link:
                        return True
                    self.refreshed()
                    await asyncio.sleep(_REFRESH)
            finally:
                await end(asking)
                await end(explaining)
                if self.log is not None:
                    self.log.flush()
            if not asking.cancelled():
                asking.result()
        return False

    async def _ask_from_there(
        self, runner: Runner, report: Callable[[Fact], None], ended: asyncio.Event
    ) -> None:
        asked = (runner, self.rounds, self.site, self.plan)
        async with placed(*asked, self.tell, ended) as parts:
            if self._places == 0:
                # To find an address to ask from takes seconds of its own.
                self.began = monotonic()
            self._places += 1
            await ask_all(runner, parts, None, report, ended)

    def _take(self, ended: asyncio.Event, fact: Fact) -> None:
        change = self.watch.take(fact)
        if self.log is not None:
            self.log.note(fact, wall_time(fact.at))
        if self.keep is not None:
            self.keep(by_the_calendar(fact))
        if change is not None:
            if not change.is_up and change.reason in SAYS_LITTLE:
                self._silent[address_of(change.target)] = change.target
            self.tell(change)
            if self.has_come:
                ended.set()

    async def _explain(self, runner: Runner, cable: Cable) -> None:
        """Tell why targets are down, soon after; not while this computer's own cable is out."""
        while True:
            await asyncio.sleep(_REFRESH)
            if not self._silent or not cable.has_link:
                continue
            silent, self._silent = self._silent, {}
            known: dict[IPv4Address, Silence] = {}
            # The cable's own events report an adapter that has gone meanwhile.
            with suppress(OSError, NotPossibleHere):
                known = await reasons(runner, self.rounds.adapter, self.plan, list(silent))
            for address, why in known.items():
                if self.watch.targets[silent[address]].is_up is False:
                    self.tell(Reason(silent[address], why.finding))

    async def _look_after(self, cable: Cable) -> None:
        """Tell of the cable, and have what was noted on the disk every second."""
        name = self.rounds.adapter.name
        if cable.losses != self._losses and self.has_link:
            # Also a loss between two looks, after which the link is back already.
            self.has_link = False
            self.tell(LinkChange(name, False, cable.is_there))
        self._losses = cable.losses
        if cable.has_link != self.has_link:
            self.has_link = cable.has_link
            self.tell(LinkChange(name, cable.has_link, cable.is_there))
        if self.log is not None and monotonic() >= self._flushed + _FLUSH:
            self._flushed = monotonic()
            # A disk that is slow must not keep echoes from being timed.
            await asyncio.to_thread(self.log.write, self.log.noted())
