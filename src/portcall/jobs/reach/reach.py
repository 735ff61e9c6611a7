"""Whether targets answer, with loss and times; and why not, where more is known than silence."""

from __future__ import annotations

import asyncio
from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from ipaddress import IPv4Address

from portcall.core.adapters.adapter import Adapter
from portcall.core.address import Mac
from portcall.core.finding import Finding, Line, Value
from portcall.core.plan.rows import Plan, PlannedDevice
from portcall.core.reach import sentences as say
from portcall.core.reach.echo_facts import NO_REPLY, Fact, Replied, Target, address_of
from portcall.core.reach.knocking import SILENT
from portcall.core.reach.ping import BY_ARP
from portcall.core.reach.statistics import Reachability, summarise
from portcall.host.adapter_watch import cable_of
from portcall.host.neighbours import known_neighbours
from portcall.host.pace import paced
from portcall.host.runner import FORBIDDEN, Runner
from portcall.jobs.reach.asking import Rounds, ask_all
from portcall.jobs.reach.standing import is_elsewhere, placed
from portcall.jobs.telling import Tell, nobody
from portcall.jobs.why.another_way import another_way
from portcall.jobs.why.reasons import reasons, reasons_beside
from portcall.jobs.workstation.adapters import adapters_now
from portcall.jobs.workstation.ways import (
    other_ways,
    own_address_finding,
    own_addresses,
    told_ways,
)
from portcall.site.folder import Site

SAYS_LITTLE = (None, NO_REPLY, SILENT, BY_ARP)
"""Reasons behind which more may be known."""


@dataclass(frozen=True, slots=True)
class Reached:
    """The sums, each answer, and what is to be known to judge them.

    ``other_ways`` are the addresses that other programs do not reach by this adapter; ``own`` are
    those that were not asked, because they are this computer's.
    """

    adapter: str
    results: tuple[Reachability, ...]
    facts: tuple[Fact, ...]
    other_ways: Mapping[IPv4Address, str]
    own: Mapping[IPv4Address, str]
    link_losses: int


async def reach(
    rounds: Rounds,
    plan: Plan,
    count: int,
    site: Site,
    stop: asyncio.Event | None = None,
    tell: Tell = nobody,
    is_named: bool = True,
) -> Reached:
    """Ask so many rounds, or until ``stop`` is set. Raises NotPossibleHere.

    Tells what concerns all of it: that the adapter lost its link, and that other programs take
    another way. Where nobody named the adapter, and it has no way to the targets, that adapter is
    taken by which the kernel has one, if they answer there.
    """
    own, targets = not_oneself(rounds.targets)
    if targets and not is_named:
        goal = address_of(targets[0])
        other = await another_way(rounds.adapter, adapters_now(), goal, rounds.pace)
        if other is not None and other.answers:
            tell(other)
            rounds = replace(rounds, adapter=other.adapter)
    adapter = rounds.adapter
    facts: list[Fact] = []
    async with cable_of(adapter.name) as cable:
        with paced(adapter.name, rounds.pace) as runner:
            asked = replace(rounds, targets=targets)
            async with placed(runner, asked, site, plan, tell, stop) as parts:
                beside = {t for part in parts if part.vantage for t in part.targets}
                await ask_all(runner, parts, count, facts.append, stop)
                results = summarise(rounds.targets, facts)
                if cable.has_link and not (stop and stop.is_set()):
                    results = await with_reasons(runner, adapter, plan, results, beside)
                    results = await _with_late_ones(runner, parts, results, stop)
    if cable.losses:
        tell(LinkLost(adapter.name, cable.losses, cable.has_link))
    answer = [address_of(each.target) for each in results if each.answers]
    # Who is asked from beside is not reached by other programs, and that was said.
    ways = other_ways(adapter, [each for each in answer if not is_elsewhere(adapter, each)])
    for way in told_ways(adapter, ways):
        tell(way)
    results = tuple(_beside(adapter, each) if each.target in beside else each for each in results)
    for stranger in _not_planned_there(adapter, plan, results):
        tell(stranger)
    results = tuple(_oneself(result, own) for result in results)
    return Reached(adapter.name, results, tuple(facts), ways, own, cable.losses)


@dataclass(frozen=True, slots=True)
class AnotherDevice:
    """Somebody answers at a planned address, and has another MAC than is planned."""

    row: PlannedDevice
    mac: Mac

    def __str__(self) -> str:
        row = self.row
        planned: dict[str, Value] = {
            "address": row.address,
            "name": row.name,
            "planned_mac": row.mac,
        }
        return str(say.ANOTHER_DEVICE(Line("why", row.name), mac=self.mac, **planned))


def _beside(adapter: Adapter, result: Reachability) -> Reachability:
    """Who answers beside it only: that is not how other programs of this computer ask."""
    if not result.answers:
        return result
    line = Line("visit", address_of(result.target))
    return replace(result, known=say.ANSWERS_BESIDE(line, adapter=adapter.name))


def _not_planned_there(
    adapter: Adapter, plan: Plan, results: Sequence[Reachability]
) -> Iterator[AnotherDevice]:
    """By this computer's own ARP table, which has just been used to send there."""
    known = known_neighbours(adapter.name)
    for each in results:
        row = plan.by_address(address_of(each.target))
        mac = known.get(address_of(each.target))
        if each.answers and row is not None and row.mac and mac is not None and mac != row.mac:
            yield AnotherDevice(row, mac)


@dataclass(frozen=True, slots=True)
class LinkLost:
    """The adapter lost its link while echoes were out: they may be lost for that."""

    adapter: str
    losses: int
    has_link: bool

    def __str__(self) -> str:
        if not self.has_link:
            return (
                f"{self.adapter} lost its link meanwhile, and has none now: what is lost may be "
                "lost for that; check the cable, and type this again"
            )
        often = "once" if self.losses == 1 else f"{self.losses} times"
        return f"{self.adapter} lost its link {often} meanwhile: what is lost may be lost for that"


def not_oneself(
    targets: Sequence[Target],
) -> tuple[dict[IPv4Address, str], tuple[Target, ...]]:
    """The targets that are this computer itself, with the adapter each is on, and the others."""
    mine = own_addresses()
    own = {a: mine[a] for a in map(address_of, targets) if a in mine}
    return own, tuple(target for target in targets if address_of(target) not in own)


def _oneself(result: Reachability, own: Mapping[IPv4Address, str]) -> Reachability:
    address = address_of(result.target)
    if address not in own:
        return result
    known = own_address_finding(address, own[address])
    return replace(result, reason=str(known), known=known)


async def _with_late_ones(
    runner: Runner,
    parts: Sequence[Rounds],
    results: Sequence[Reachability],
    stop: asyncio.Event | None,
) -> tuple[Reachability, ...]:
    """The same; of who answered nothing it is told when that is because it answers late."""
    silent = {each.target for each in results if each.sent and not each.answers}
    wait = max((part.wait for part in parts), default=LONG_WAIT)
    if not silent or wait >= LONG_WAIT or len(silent) > _MOST_ASKED_AGAIN:
        return tuple(results)
    facts: list[Fact] = []
    again = [
        replace(part, targets=[each for each in part.targets if each in silent], wait=LONG_WAIT)
        for part in parts
    ]
    await ask_all(runner, again, 1, facts.append, stop)
    late = {fact.target: fact.seconds for fact in facts if isinstance(fact, Replied)}
    told = {target: _late(target, seconds, wait) for target, seconds in late.items()}
    return tuple(replace(each, known=told.get(each.target, each.known)) for each in results)


def _late(target: Target, seconds: float, wait: float) -> Finding:
    address = address_of(target)
    if seconds <= wait:
        return say.ANSWERS_NOW(Line("reach", address))
    return say.ANSWERS_LATE(Line("reach", address, "--wait", round(LONG_WAIT)), seconds=seconds)


LONG_WAIT = 4.0
"""Seconds: radios, sleeping devices and gateways to slow wires answer after so many."""

_MOST_ASKED_AGAIN = 64


async def with_reasons(
    runner: Runner,
    adapter: Adapter,
    plan: Plan,
    results: Sequence[Reachability],
    beside: Collection[Target] = (),
) -> tuple[Reachability, ...]:
    """The same, with a better reason where silence is all that is known, and more can be.

    ``beside`` are those that were asked from an address borrowed beside them.
    """
    little = [each for each in results if not each.answers and each.reason in SAYS_LITTLE]
    here = [address_of(each.target) for each in little if each.target not in beside]
    there = [address_of(each.target) for each in little if each.target in beside]
    known = await reasons(runner, adapter, plan, here)
    known |= await reasons_beside(runner, adapter, plan, there)

    def better(each: Reachability) -> Reachability:
        told = known.get(address_of(each.target))
        if each in little and told is not None:
            return replace(each, known=told.finding, is_own=told.is_own)
        return replace(each, is_own=each.reason == FORBIDDEN)

    return tuple(map(better, results))


def reaches(adapter: Adapter, address: IPv4Address) -> bool:
    """Whether other programs of this computer have a way to an address by this adapter."""
    return not is_elsewhere(adapter, address) or bool(adapter.any_route_to(address))
