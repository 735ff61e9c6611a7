"""Standing in the subnets of targets, for as long as they are asked."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator, Iterator, Sequence
from contextlib import ExitStack, asynccontextmanager, closing, contextmanager
from dataclasses import dataclass, replace
from ipaddress import IPv4Address, IPv4Interface, IPv4Network

from portcall.core.adapters.adapter import Adapter
from portcall.core.adapters.own_address import wanted_for
from portcall.core.find.borrowed import borrowable
from portcall.core.finding import Line
from portcall.core.plan.rows import Plan
from portcall.core.reach.echo_facts import Target, address_of
from portcall.core.trouble import NotPossibleHere
from portcall.host.adapters import way_out
from portcall.host.leg import Leg
from portcall.host.link import Link
from portcall.host.runner import Runner
from portcall.host.vantage import Vantage
from portcall.jobs.look.holders import free_to_borrow
from portcall.jobs.reach.asking import Rounds, ask_all
from portcall.jobs.telling import Tell, nobody
from portcall.jobs.workstation.rights import lacks_raw_ethernet
from portcall.site.folder import Site

_MOST_BORROWED = 4

_MEETING = 2.0
"""Seconds for the first answer to a borrowed address; who is silent for so long is asked all the
same."""


@dataclass(frozen=True, slots=True)
class Borrowed:
    """An address is borrowed to ask from; this computer's own stay as they are."""

    interface: IPv4Interface

    def __str__(self) -> str:
        return f"asking from {self.interface}, borrowed meanwhile: this computer is not in there"


@asynccontextmanager
async def placed(
    runner: Runner,
    rounds: Rounds,
    site: Site,
    plan: Plan,
    tell: Tell,
    stop: asyncio.Event | None = None,
) -> AsyncIterator[list[Rounds]]:
    """The rounds, parted by where they are asked from, while the block runs.

    In a subnet that this computer is not in, and has no route to by this adapter, they are asked
    from an address that is borrowed there. Raises NotPossibleHere.
    """
    here, foreign = _apart(rounds.adapter, rounds.targets, site, plan)
    with ExitStack() as legs:
        parts = [replace(rounds, targets=here)] if here else []
        for network, targets in foreign.items():
            own = await _borrowed(runner, rounds.adapter, network, targets, site, plan)
            vantage = legs.enter_context(standing_in(own, runner, rounds.adapter))
            tell(Borrowed(own))
            parts.append(replace(rounds, targets=targets, vantage=vantage))
        await met(runner, [part for part in parts if part.vantage], stop)
        yield parts


async def met(runner: Runner, parts: Sequence[Rounds], stop: asyncio.Event | None = None) -> None:
    """Ask each once, and count nothing: at a new address the kernel does not know yet who has
    theirs, and on a busy computer what it first asks for can be later than an echo may be."""
    meeting = [
        replace(part, targets=sorted({address_of(each) for each in part.targets}), wait=_MEETING)
        for part in parts
    ]
    await ask_all(runner, meeting, 1, nobody, stop)


def is_elsewhere(adapter: Adapter, address: IPv4Address) -> bool:
    """Whether an address is in no subnet of an adapter, and no route leads to it over that."""
    if adapter.on_subnet_of(address) is not None:
        return False
    way = way_out(address)
    return way.adapter != adapter.name or way.router is None


def _apart(
    adapter: Adapter, targets: Sequence[Target], site: Site, plan: Plan
) -> tuple[list[Target], dict[IPv4Network, list[Target]]]:
    here: list[Target] = []
    foreign: dict[IPv4Network, list[Target]] = {}
    for target in targets:
        address = address_of(target)
        if not is_elsewhere(adapter, address):
            here.append(target)
            continue
        network = wanted_for(address, plan, site.subnets).network
        if network in foreign or len(foreign) < _MOST_BORROWED:
            foreign.setdefault(network, []).append(target)
        else:
            here.append(target)
    return here, foreign


async def borrowed_beside(
    runner: Runner, adapter: Adapter, address: IPv4Address, site: Site, plan: Plan
) -> IPv4Interface:
    """An address that is free in the subnet of a device. Raises NotPossibleHere."""
    network = wanted_for(address, plan, site.subnets).network
    return await _borrowed(runner, adapter, network, [address], site, plan)


async def _borrowed(
    runner: Runner,
    adapter: Adapter,
    network: IPv4Network,
    targets: Sequence[Target],
    site: Site,
    plan: Plan,
) -> IPv4Interface:
    own = {each.ip for each in adapter.interfaces}
    avoid = own | site.reserved(plan) | {address_of(each) for each in targets}
    choices = borrowable(network, site.workstation, avoid, site.starting)
    try:
        with runner.using(Link(adapter.name)) as link:
            free = await free_to_borrow(runner, link, choices)
    except NotPossibleHere as trouble:
        raise _put_it_there(adapter, targets, str(trouble)) from None
    if free is None:
        raise _put_it_there(adapter, targets, f"no address is free in {network}")
    return IPv4Interface((free, network.prefixlen))


@contextmanager
def standing_in(interface: IPv4Interface, runner: Runner, adapter: Adapter) -> Iterator[Vantage]:
    """The vantage at a borrowed address, while the block runs. Raises NotPossibleHere."""
    with closing(Leg(runner, adapter.name, interface)) as leg:
        yield leg.vantage


def _put_it_there(adapter: Adapter, targets: Sequence[Target], because: str) -> NotPossibleHere:
    return NotPossibleHere(
        f"{adapter.name} is not in the subnet of {address_of(targets[0])}, and cannot ask from "
        f"there: {because}",
        Line("visit", address_of(targets[0]), as_root=lacks_raw_ethernet()),
    )
