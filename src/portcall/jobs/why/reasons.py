"""Why targets do not answer, in one line each, for commands that have other things to tell.

The same judgement as ``why`` makes, as far as one question to the wire and the kernel's own look-up
go. Where that tells nothing, nothing is said.
"""

from __future__ import annotations

import asyncio
from collections.abc import Sequence
from dataclasses import dataclass, replace
from ipaddress import IPv4Address

from portcall.core.adapters.adapter import Adapter
from portcall.core.finding import Finding, Line, Name
from portcall.core.plan.rows import Plan
from portcall.core.why import below, neighbour, way_back
from portcall.core.why import sentences as say
from portcall.core.why.evidence import Situation, Trial, WireSeen
from portcall.core.why.facts import ClimbSeen, facts
from portcall.core.why.grounds import weigh
from portcall.core.why.ladder import Cause, Goal, Rung, Step
from portcall.host.adapters import way_out
from portcall.host.neighbours import fixed_neighbours
from portcall.host.runner import Runner
from portcall.jobs.why.trial import note_seen, try_echoes, watching
from portcall.jobs.why.wire import LONG_PATIENCE, ask_wire
from portcall.jobs.workstation.adapters import adapters_now

_MOST = 64
"""Targets that are asked about: more are silent for one and the same reason."""


_MOST_WATCHED = 8
"""Of those that answer ARP and nothing else, so many are watched for answers that are dropped."""


@dataclass(frozen=True, slots=True)
class Silence:
    """Why a target does not answer, and whether that is this computer's own doing."""

    finding: Finding
    is_own: bool = False


async def reasons(
    runner: Runner, adapter: Adapter, plan: Plan, silent: Sequence[IPv4Address]
) -> dict[IPv4Address, Silence]:
    """The known reasons why these do not answer; for addresses left out nothing more is known."""
    asked = list(dict.fromkeys(silent))[:_MOST]
    if not asked:
        return {}
    adapters, fixed = adapters_now(), fixed_neighbours(adapter.name)
    ways = {address: way_out(address) for address in asked}
    questions: dict[IPv4Address, IPv4Address | None] = {}
    for address, way in ways.items():
        for goal in (address, way.router if way.adapter == adapter.name else None):
            if goal is not None:
                own = adapter.on_subnet_of(goal)
                questions[goal] = own.ip if own else None
    wire = await ask_wire(runner, adapter, questions, LONG_PATIENCE)
    found: dict[IPv4Address, Silence] = {}
    quiet: dict[Goal, Situation] = {}
    for address in asked:
        row = plan.by_address(address)
        here = Situation(adapter, adapters, ways[address], plan, row, None, fixed, False)
        meant = Goal(address, row.name if row else Name(str(address)))
        settled = _settled(meant, here, wire)
        if settled is not None:
            found[address] = settled
        elif wire.answers is not None and here.way.router is None:
            quiet[meant] = here
            found[address] = Silence(say.ONLY_ARP(Line("why", meant.name)))
        elif wire.answers is not None:
            line = Line("why", meant.name)
            found[address] = Silence(say.NOTHING_BEHIND(line, router=here.way.router))
    watched = list(quiet)[:_MOST_WATCHED]
    kept = await asyncio.gather(*(_is_kept_here(runner, goal, quiet[goal]) for goal in watched))
    dropped = [goal.address for goal, is_kept in zip(watched, kept, strict=True) if is_kept]
    told = Silence(say.KEPT_FROM_HERE(adapter=adapter.name), is_own=True)
    return found | dict.fromkeys(dropped, told)


async def reasons_beside(
    runner: Runner, adapter: Adapter, plan: Plan, silent: Sequence[IPv4Address]
) -> dict[IPv4Address, Silence]:
    """The same for addresses that were asked from beside them: only whether they answer ARP."""
    asked = list(dict.fromkeys(silent))[:_MOST]
    if not asked:
        return {}
    wire = await ask_wire(runner, adapter, dict.fromkeys(asked), LONG_PATIENCE)
    found: dict[IPv4Address, Silence] = {}
    for address in asked if wire.answers is not None else ():
        row = plan.by_address(address)
        if wire.answers is not None and wire.answers.get(address):
            line = Line("why", row.name if row else Name(str(address)))
            found[address] = Silence(say.ONLY_ARP(line))
        else:
            found[address] = Silence(say.NOBODY_FOR(first=address))
    return found


async def _is_kept_here(runner: Runner, goal: Goal, here: Situation) -> bool:
    """Whether this computer's own firewall is seen to keep a device's answers from its programs."""
    trial = Trial()
    with watching(runner, here.adapter, here.adapters, goal.address) as watch:
        if watch.here is None:
            return False
        await try_echoes(runner, here.adapter, goal.address, trial, False, watch)
        await note_seen(trial, watch, here.strict)
    step = way_back.judge_way_back(goal, here, trial)
    step = weigh(step, facts(ClimbSeen(goal, here=here, trial=trial)), goal) if step else None
    concluded = step.conclusion if step is not None else None
    return concluded is not None and concluded.cause is Cause.FIREWALL_IN and trial.echoes_in > 0


def _settled(goal: Goal, here: Situation, wire: WireSeen) -> Silence | None:
    """The reason that one look at the wire and at this computer's own tables settles."""
    seen = facts(ClimbSeen(goal, here=here, wire=wire))
    steps: list[Step | None] = [
        below.judge_own_address(goal, here, wire),
        below.judge_way_out(goal, here, wire),
        neighbour.judge_neighbour(goal, here, wire),
    ]
    for settled in steps:
        step = weigh(settled, seen, goal) if settled else None
        if step is None:
            first = here.way.router
            nobody = say.NOBODY_FOR_ROUTER if first else say.NOBODY_FOR
            return Silence(nobody(first=first or goal.address))
        concluded = step.conclusion
        if concluded is not None:
            is_own = step.rung in _OWN_RUNGS or concluded.cause is Cause.FIXED_NEIGHBOUR
            return Silence(replace(concluded.finding, line=concluded.line), is_own)
    return None


_OWN_RUNGS = (Rung.OWN_ADDRESS, Rung.WAY_OUT)
"""What is not as it should be there is this computer's own."""
