"""Whether targets answer, with loss and times; and why not, where more is known than silence."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from portcall.core.adapters.adapter import Adapter
from portcall.core.plan.rows import Plan
from portcall.core.reach.echo_facts import NO_REPLY, Fact, Target, address_of
from portcall.core.reach.knocking import SILENT
from portcall.core.reach.ping import BY_ARP
from portcall.core.reach.statistics import Reachability, summarise
from portcall.core.trouble import NotPossibleHere
from portcall.host.runner import Runner, paced
from portcall.jobs.reach.asking import Rounds, ask
from portcall.jobs.why.reasons import reasons

SAYS_LITTLE = (None, NO_REPLY, SILENT, BY_ARP)
"""Reasons behind which more may be known."""


async def reach(
    rounds: Rounds, plan: Plan, count: int
) -> tuple[tuple[Reachability, ...], tuple[Fact, ...]]:
    """Ask so many rounds: the sums, and each answer. Raises NotPossibleHere."""
    adapter, targets = rounds.adapter, rounds.targets
    must_have_an_address(adapter, targets)
    facts: list[Fact] = []
    with paced(adapter.name, rounds.pace) as runner:
        await ask(runner, rounds, count, facts.append)
        results = await with_reasons(runner, adapter, plan, summarise(targets, facts))
    return results, tuple(facts)


async def with_reasons(
    runner: Runner, adapter: Adapter, plan: Plan, results: Sequence[Reachability]
) -> tuple[Reachability, ...]:
    """The same, with a better reason where silence is all that is known, and more can be."""
    little = [each for each in results if not each.answers and each.reason in SAYS_LITTLE]
    known = await reasons(runner, adapter, plan, [address_of(each.target) for each in little])
    return tuple(
        replace(each, reason=known.get(address_of(each.target), each.reason))
        if each in little
        else each
        for each in results
    )


def must_have_an_address(adapter: Adapter, targets: Sequence[Target]) -> None:
    """Raise NotPossibleHere when there is nothing that an answer could come back to."""
    if not adapter.addresses:
        raise NotPossibleHere(
            f"{adapter.name} has no address to ask from; put it into the subnet first: "
            f"portcall match {address_of(targets[0])}"
        )
