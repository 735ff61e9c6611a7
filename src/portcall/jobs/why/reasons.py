"""Why targets do not answer, in one line each, for commands that have other things to tell.

The same judgement as ``why`` makes, as far as one question to the wire and the kernel's own look-up
go. Where that tells nothing, nothing is said.
"""

from __future__ import annotations

from collections.abc import Sequence
from ipaddress import IPv4Address

from portcall.core.adapters.adapter import Adapter
from portcall.core.plan.rows import Plan
from portcall.core.why import below, neighbour
from portcall.core.why.evidence import Situation, WireSeen
from portcall.core.why.facts import Seen, facts
from portcall.core.why.grounds import weigh
from portcall.core.why.ladder import Goal, Step
from portcall.host.adapters import way_out
from portcall.host.neighbours import fixed_neighbours
from portcall.host.runner import Runner
from portcall.jobs.why.wire import LONG_PATIENCE, ask_wire
from portcall.jobs.workstation.adapters import adapters_now

_MOST = 64
"""Targets that are asked about: more are silent for one and the same reason."""


async def reasons(
    runner: Runner, adapter: Adapter, plan: Plan, silent: Sequence[IPv4Address]
) -> dict[IPv4Address, str]:
    """What is known of why each of these does not answer; those left out are not known better."""
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
    found: dict[IPv4Address, str] = {}
    for address in asked:
        row = plan.by_address(address)
        here = Situation(adapter, adapters, ways[address], plan, row, None, fixed, False)
        meant = Goal(address, row.name if row else str(address))
        sentence = _sentence(meant, here, wire)
        if sentence:
            found[address] = sentence
    return found


def _sentence(goal: Goal, here: Situation, wire: WireSeen) -> str:
    seen = facts(Seen(goal, here=here, wire=wire))
    steps: list[Step | None] = [
        below.judge_own_address(goal, here, wire),
        below.judge_way_out(goal, here, wire),
        neighbour.judge_neighbour(goal, here, wire),
    ]
    for settled in steps:
        step = weigh(settled, seen, goal) if settled else None
        if step is None:
            first = here.way.router
            who = f"the router {first}" if first else str(goal.address)
            return f"nobody answers ARP for {who}"
        if step.finding is not None:
            sentence = step.finding.sentence.rstrip(".")
            line = next((each for each in step.finding.do if each.startswith("portcall ")), None)
            return f"{sentence}: {line}" if line else sentence
    if wire.answers is None:
        return ""
    if here.way.router is not None:
        router = f"the router {here.way.router} answers ARP"
        return f"{router}, and nothing comes back from behind it: portcall why {goal.name}"
    return "it answers ARP, and nothing else that was asked: portcall why " + goal.name
