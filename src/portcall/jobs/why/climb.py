"""Climbing the ladder: looking at one rung after the other, until one does not hold.

What is seen is judged by ``core.why``; nothing here decides what it means. Nothing of this computer
is changed.
"""

from __future__ import annotations

import asyncio
from collections.abc import AsyncGenerator, Collection, Mapping, Sequence
from dataclasses import dataclass, field, replace
from ipaddress import IPv4Address, IPv4Network
from itertools import islice
from time import monotonic

from portcall.core.adapters.adapter import Adapter
from portcall.core.adapters.own_address import Wanted, candidates
from portcall.core.address import Mac, assumed_network, hosts
from portcall.core.catalog.catalog import USUAL_DOORS
from portcall.core.find.device import is_one_device
from portcall.core.find.protocols import AT_DOOR
from portcall.core.find.web_page import PAGES
from portcall.core.plan.rows import Plan, PlannedDevice
from portcall.core.talk.pacer import Pace
from portcall.core.why import below, echo_series, neighbour, open_doors, parts, proxies, way_back
from portcall.core.why.evidence import (
    NOBODY,
    EchoSeen,
    FromInside,
    LinkSeen,
    Situation,
    Sought,
    WireSeen,
)
from portcall.core.why.facts import ClimbSeen, facts
from portcall.core.why.grounds import weigh
from portcall.core.why.ladder import (
    Diagnosis,
    Goal,
    Rung,
    Step,
    Verdict,
    not_asked,
    rungs_to,
)
from portcall.core.why.who_has import PATIENCE
from portcall.host.adapter_watch import Cable, cable_of
from portcall.host.adapters import link_counters, way_out
from portcall.host.neighbours import fixed_neighbours, known_neighbours
from portcall.host.pace import paced
from portcall.host.runner import Runner
from portcall.host.vantage import Vantage
from portcall.jobs.telling import Tell
from portcall.jobs.together import end, together
from portcall.jobs.why.another_way import another_way
from portcall.jobs.why.full_segment import full_segment_taken
from portcall.jobs.why.inside import ask_from_inside
from portcall.jobs.why.part import ask_for_part
from portcall.jobs.why.trial import (
    Watch,
    measure,
    note_seen,
    stands_in_subnet,
    try_doors,
    try_echoes,
    watching,
)
from portcall.jobs.why.wire import (
    ALONE_PATIENCE,
    ask_each_alone,
    ask_wire,
    devices_at,
    offers_for,
    seek,
)
from portcall.jobs.why.words import words_behind
from portcall.jobs.workstation.adapters import adapters_now
from portcall.site.folder import Site

_LINK_PATIENCE = 3.0
"""Seconds that a link which is out is waited for: it may be one that comes and goes, and after each
loss both ends need a second or two to agree on a speed (IEEE 802.3, clause 28)."""

_LINK_WATCH = 1.5
"""Seconds that a link is watched at least which has just come, or has been lost before."""

_LOOK_EVERY = 0.05

_LOST_BEFORE = 3
"""Losses since the adapter is there from which a link is not simply trusted."""


@dataclass(slots=True)
class Climb:
    """One climb; ``run`` it once. ``row`` is the goal's row of the plan."""

    goal: Goal
    adapter: Adapter
    adapters: Sequence[Adapter]
    site: Site
    plan: Plan
    row: PlannedDevice | None = None
    doors: Mapping[int, str] = field(default_factory=lambda: dict(USUAL_DOORS))
    environment: Mapping[str, str] = field(default_factory=dict)
    pace: Pace = field(default_factory=Pace)
    is_named: bool = True
    """Whether somebody said which adapter it is."""
    doors_before: Mapping[int, str] = field(default_factory=dict)
    """Doors that the record has seen open, and when that was."""
    _watch_until: float = 0.0
    """Until when the link is watched, even when all else is judged."""
    _other_way_answers: bool | None = None
    _seen: ClimbSeen = field(init=False)

    def __post_init__(self) -> None:
        self._seen = ClimbSeen(self.goal)

    async def run(self, tell: Tell) -> Diagnosis:
        """Climb; tells each step as it is settled. Raises NotPossibleHere."""
        steps: list[Step] = []
        await self._look_for_another_way()
        began = monotonic()
        async with cable_of(self.adapter.name) as cable:
            with paced(self.adapter.name, self.pace) as runner:
                climbing = self._steps(runner, cable)
                while (step := await _next_unless_lost(climbing, cable)) is not None:
                    step = self._weighed(step)
                    steps.append(step)
                    tell(step)
                    if step.verdict is Verdict.BROKEN and not step.passable:
                        break
                await climbing.aclose()
                await self._watched_long_enough(cable)
            if cable.losses and not any(
                step.rung is Rung.LINK and step.conclusion for step in steps
            ):
                # A missing answer may be the link's fault: do not judge the rungs above it.
                now = next((a for a in adapters_now() if a.name == self.adapter.name), self.adapter)
                seen = LinkSeen(now, cable.losses, monotonic() - began, is_there=cable.is_there)
                steps = [below.judge_link(seen)]
                tell(steps[0])
        done = {step.rung for step in steps}
        steps += [not_asked(rung) for rung in rungs_to(self.goal) if rung not in done]
        return Diagnosis(self.goal, self.adapter.name, tuple(steps))

    async def _look_for_another_way(self) -> None:
        """Take the adapter that the kernel would send by, where nobody named one, the one that was
        found has no way there, and the device answers by the other."""
        if self.is_named:
            return
        other = await another_way(self.adapter, self.adapters, self.goal.address, self.pace)
        if other is not None:
            self._other_way_answers = other.answers
            self.adapter = other.adapter if other.answers else self.adapter

    def _weighed(self, step: Step) -> Step:
        """A cause is named when what was seen excludes its neighbours."""
        return weigh(step, facts(self._seen), self.goal)

    async def _watched_long_enough(self, cable: Cable) -> None:
        """A link that was lost before may be lost again, and be the reason for all that is seen."""
        while not cable.losses and monotonic() < self._watch_until:
            await asyncio.sleep(_LOOK_EVERY)

    async def _steps(self, runner: Runner, cable: Cable) -> AsyncGenerator[Step, None]:
        seen, goal = self._seen, self.goal
        yield await self._link(cable)
        seen.here = here = self._situation()
        seen.wire = await self._ask_wire(runner, here)
        yield below.judge_own_address(goal, here, seen.wire)
        yield below.judge_way_out(goal, here, seen.wire)
        yield await self._neighbour(runner, here)
        with watching(runner, self.adapter, self.adapters, goal.address) as watch:
            await self._first_trial(runner, here, watch)
            yield await self._way_back(runner, here, watch)
            if seen.trial.answered:
                seen.echo = await measure(runner, self.adapter, goal.address, seen.trial)
                if seen.echo.is_short_only:
                    await self._doors(runner, watch)
                    seen.echo = await self._with_full_segment(seen.echo)
            yield echo_series.judge_echo(goal, here, seen.trial, seen.echo)
            await self._doors(runner, watch)
        yield open_doors.judge_door(goal, here, seen.trial, self.doors, self.doors_before)
        vantage = Vantage(self.adapter.name)
        seen.words = await words_behind(runner, vantage, goal.address, seen.trial, self.doors)
        word = open_doors.judge_word(goal, here, seen.words)
        if goal.part is None or word.verdict is Verdict.HOLDS:
            yield word
        if goal.part is not None:
            # Whoever stands before a part need not say who he is.
            where = (goal.address, goal.part, self.site, self.plan)
            seen.part = await ask_for_part(runner, vantage, *where)
            yield parts.judge_part(goal, seen.part)
        set_here = proxies.proxies_for(goal.address, dict(self.environment))
        pages = [port for port in seen.trial.open_doors if port in PAGES]
        seen.proxies_for_pages = bool(proxies.concerning(set_here, pages))
        yield proxies.judge_programs(goal, set_here, pages)

    async def _with_full_segment(self, echo: EchoSeen) -> EchoSeen:
        vantage, doors = Vantage(self.adapter.name), self._seen.trial.doors
        taken = await full_segment_taken(vantage, self.goal.address, doors, echo.passed or 0)
        return replace(echo, full_taken=taken)

    async def _link(self, cable: Cable) -> Step:
        adapter, counters = self.adapter, link_counters(self.adapter.name)
        began, had = monotonic(), cable.has_link
        while not cable.has_link and adapter.up and cable.is_there:
            if monotonic() >= began + _LINK_PATIENCE:
                break
            await asyncio.sleep(_LOOK_EVERY)
        watched, lost_before = monotonic() - began, counters.losses or 0
        if lost_before >= _LOST_BEFORE or not had:
            self._watch_until = monotonic() + _LINK_WATCH
        now = replace(adapter, link=cable.has_link)
        of_the_link = (cable.losses, watched, lost_before, counters.errors)
        self._seen.link = LinkSeen(now, *of_the_link, is_there=cable.is_there)
        return below.judge_link(self._seen.link)

    def _situation(self) -> Situation:
        networks = [s.network for s in self.site.subnets if self.goal.address in s.network]
        planned: IPv4Network | None = networks[0] if networks else None
        if planned is None and self.row is not None:
            planned = self.row.interface.network
        way = way_out(self.goal.address, self.goal.port)
        fixed = fixed_neighbours(self.adapter.name)
        other_way = False if self.is_named else self._other_way_answers
        given = (self.adapter, self.adapters, way, self.plan, self.row, planned)
        return Situation(*given, fixed, other_way)

    async def _ask_wire(self, runner: Runner, here: Situation) -> WireSeen:
        """Ask for the holders of the goal's address, this computer's own, and the router's."""
        adapter, goal = self.adapter, self.goal.address
        own = adapter.on_subnet_of(goal)
        asked: dict[IPv4Address, IPv4Address | None] = {goal: own.ip if own else None}
        asked |= {each.ip: None for each in adapter.interfaces}
        router = here.way.router if here.way.adapter == adapter.name else None
        if router is not None:
            near = adapter.on_subnet_of(router)
            asked[router] = near.ip if near else None
        offering = asyncio.ensure_future(offers_for(adapter, goal))
        try:
            seen = await ask_wire(runner, adapter, asked, PATIENCE, self._decoys(asked))
            seen = replace(seen, offers=await offering)
        finally:
            await end(offering)
        first = router or goal
        if seen.answers is not None and not seen.macs(first):
            again = await ask_wire(runner, adapter, {first: asked[first]}, ALONE_PATIENCE)
            late = [mac for mac in again.macs(first) if mac not in seen.for_all]
            return replace(seen, answers={**seen.answers, first: late})
        return seen

    def _decoys(self, asked: Collection[IPv4Address]) -> list[IPv4Address]:
        """Two addresses of the goal's subnet that hardly anybody has."""
        goal = self.goal.address
        own = self.adapter.on_subnet_of(goal)
        network = own.network if own else assumed_network(goal)
        avoid = {*asked, *self.site.reserved(self.plan)}
        return list(islice(candidates(Wanted(network, None, "decoy"), None, avoid), 2))

    async def _neighbour(self, runner: Runner, here: Situation) -> Step:
        seen, goal = self._seen, self.goal
        first = here.first(goal.address)
        macs = seen.wire.macs(first)
        plates: dict[Mac, str] = {}
        if len(macs) > 1:
            alone = await ask_each_alone(runner, self.adapter, first, macs)
            seen.wire = replace(seen.wire, alone=alone)
            if not seen.wire.is_one_device(macs):
                there = await devices_at(self.adapter, self.site, self.plan, first)
                plates = {each.mac: each.nameplate for each in there if each.mac in macs}
                whole = len(there) == len(macs) and is_one_device(there)
                seen.wire = replace(seen.wire, one_serial=whole)
            told = [plates[mac] for mac in macs if plates.get(mac)]
            seen.plates_differ = len(set(told)) == len(told) > 1
        step = neighbour.judge_neighbour(goal, here, seen.wire, plates)
        if step is not None:
            return step
        mac = self.row.mac if self.row is not None else None
        seen.sought = Sought(None)
        if not seen.wire.by_kernel:
            seen.sought = await seek(self.adapter, self.site, self.plan, goal.address, mac)
        return neighbour.judge_nobody(goal, here, seen.sought, seen.wire)

    async def _first_trial(self, runner: Runner, here: Situation, watch: Watch) -> None:
        routed = here.way.router is not None
        goal, port, trial = self.goal.address, self.goal.port, self._seen.trial
        async with together() as tasks:
            tasks.create_task(try_echoes(runner, self.adapter, goal, trial, routed, watch))
            if port is not None:
                knocking = try_doors(runner, self.adapter.name, goal, (port,), trial, talks=True)
                tasks.create_task(knocking)
        await self._note(here, watch)

    async def _note(self, here: Situation, watch: Watch) -> None:
        """Put what was seen beside the sockets to what they told."""
        trial = self._seen.trial
        await note_seen(trial, watch, here.strict)
        first = here.first(self.goal.address)
        trial.neighbour_known = first in known_neighbours(self.adapter.name) or first in here.fixed

    async def _way_back(self, runner: Runner, here: Situation, watch: Watch) -> Step:
        """Judge the way back; when nothing comes, every other question is asked side by side."""
        trial, is_direct = self._seen.trial, here.way.router is None
        inside: FromInside | None = None
        if not trial.came_back and (is_direct or not trial.errors):
            asking = asyncio.ensure_future(self._from_inside(runner, is_direct))
            try:
                await self._doors(runner, watch)
                step = way_back.judge_way_back(self.goal, here, trial)
                if step is None:
                    inside = await asking
            finally:
                await end(asking)
        if not trial.came_back:
            await self._find_who_stands_there(runner, here)
        self._seen.inside = inside
        step = way_back.judge_way_back(self.goal, here, trial, inside)
        assert step is not None
        return step

    async def _find_who_stands_there(self, runner: Runner, here: Situation) -> None:
        """Whether a router that finds nobody has an address in the goal's subnet itself."""
        trial, goal = self._seen.trial, self.goal.address
        told = here.believed(trial.errors, goal)
        if told is None or told.said != NOBODY or here.way.router is None:
            return
        ends = hosts(here.own_prefix or assumed_network(goal))
        usual = {ends.first, ends.last, self.row.gateway if self.row is not None else None}
        candidates = [each for each in usual if each is not None and each != goal]
        if await stands_in_subnet(runner, self.adapter.name, told, candidates):
            trial.stands_there = told.by

    async def _from_inside(self, runner: Runner, is_direct: bool) -> FromInside:
        wire = self._seen.wire
        if not is_direct or wire.answers is None or wire.by_kernel:
            return FromInside()
        address = self.goal.address
        mac = next(iter(wire.macs(address)), None)
        return await ask_from_inside(runner, self.adapter, address, mac, self.site, self.plan)

    async def _doors(self, runner: Runner, watch: Watch) -> None:
        """Try the usual doors, unless one was named and something has answered."""
        trial, here = self._seen.trial, self._seen.here
        wanted = [p for p in self.doors if p not in trial.doors]
        if self.goal.port is not None and trial.came_back:
            wanted = []
        if not trial.came_back and not trial.answered:
            # A device that is silent to all else is asked only at the usual industrial ports.
            wanted = [port for port in wanted if port in AT_DOOR]
        if wanted:
            name, address = self.adapter.name, self.goal.address
            await try_doors(runner, name, address, wanted, trial, talks=True)
        assert here is not None
        await self._note(here, watch)


async def _next_unless_lost(steps: AsyncGenerator[Step, None], cable: Cable) -> Step | None:
    """The next step; None when there is none, or the link is lost meanwhile."""
    asking = asyncio.ensure_future(anext(steps, None))
    try:
        while not asking.done() and not cable.losses:
            await asyncio.wait((asking,), timeout=_LOOK_EVERY)
    finally:
        await end(asking)
    return None if asking.cancelled() or cable.losses else asking.result()
