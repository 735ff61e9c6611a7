"""The plan against the wire: looked at, then asked and pinged at the planned addresses.

Where the adapter is not in a planned subnet, an address there is borrowed, as for a look. What
cannot be asked all the same is not judged.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from contextlib import closing
from dataclasses import dataclass, field, replace
from ipaddress import IPv4Address

from portcall.core.adapters.adapter import Adapter
from portcall.core.address import AddressRange
from portcall.core.find.device import Device
from portcall.core.find.devices import Gathering
from portcall.core.find.outlook import Outlook
from portcall.core.find.protocols import WIRE_METHODS
from portcall.core.find.sighting import Method
from portcall.core.finding import Finding, Line
from portcall.core.plan.rows import Plan, PlannedDevice
from portcall.core.reach.echo_facts import Fact, address_of
from portcall.core.reach.statistics import Reachability, summarise
from portcall.core.talk.pacer import BURST_SECONDS
from portcall.core.verify import sentences as say
from portcall.core.verify.judgement import (
    Asked,
    Judgement,
    RowsSeen,
    Verdict,
    judge,
    spoken,
    unplanned,
)
from portcall.core.verify.parts import judge_parts
from portcall.host.adapter_watch import cable_of
from portcall.host.adapters import way_out
from portcall.host.leg import Leg
from portcall.host.medium import NoPings
from portcall.host.pace import paced
from portcall.host.runner import Runner
from portcall.jobs.look.findings import NotRun
from portcall.jobs.look.looked import Looked, look
from portcall.jobs.look.orders import (
    NotSearched,
    gathering_for,
    orders_for,
    planned_inside,
    searchable,
    with_places_of,
)
from portcall.jobs.reach.asking import Rounds, ask
from portcall.jobs.reach.reach import LONG_WAIT, with_reasons
from portcall.jobs.telling import Tell, nobody
from portcall.jobs.workstation.ways import other_ways, own_addresses, told_ways
from portcall.site.folder import Site
from portcall.site.logbook.settings import SettingsLog

_BURST_SECONDS = BURST_SECONDS / 2
"""After each exchange with a program the kernel sends one or two packets of its own, which are
counted only afterwards: with the usual bursts the pace would be exceeded."""

_METHODS = tuple(method for method in WIRE_METHODS if method not in (Method.PORTS, Method.DHCP))
"""Every way of saying who one is; which other doors are open, and who serves, is not judged."""

_AWHILE = 1.0
"""Seconds to listen where only the planned addresses are asked."""

_ECHOES = 3
_ECHO_INTERVAL = 0.2
_ECHO_WAIT = 1.0
_MORE_ECHOES = 5
"""For a device that is there and left an echo unanswered: what is late is not lost."""


@dataclass(frozen=True, slots=True)
class NothingHeard:
    """Nobody answered and nobody spoke: the rows are missing, if this is the right adapter."""

    adapter: str

    def __str__(self) -> str:
        return (
            f"nothing at all was heard on {self.adapter}: is it the right adapter, and has the "
            "plant power? portcall adapters --watch shows which adapter has the cable"
        )


@dataclass(frozen=True, slots=True)
class Verified:
    """A judgement for each row, the devices that no row has, and what could not run."""

    adapter: Adapter
    judgements: tuple[Judgement, ...]
    unplanned: tuple[Device, ...]
    not_run: tuple[NotRun, ...]
    other_ways: Mapping[IPv4Address, str] = field(default_factory=dict)
    devices: Sequence[Device] = ()
    """All that were found meanwhile."""
    looked: Looked | None = None
    is_whole: bool = True
    """Whether every row of the plan was held against the wire, and who else is there."""

    @property
    def right(self) -> int:
        """How many rows are right."""
        return self._count(Verdict.RIGHT)

    @property
    def not_judged(self) -> int:
        """How many rows could not be judged from here."""
        return self._count(Verdict.NOT_JUDGED)

    @property
    def wrong(self) -> int:
        """How many rows are neither."""
        return len(self.judgements) - self.right - self.not_judged

    def _count(self, verdict: Verdict) -> int:
        return sum(judgement.verdict is verdict for judgement in self.judgements)


async def verify(
    adapter: Adapter,
    site: Site,
    plan: Plan,
    rows: Sequence[PlannedDevice] = (),
    tell: Tell = nobody,
    elsewhere: bool = True,
    progress: Callable[[Outlook], None] = nobody,
    gathering: Gathering | None = None,
) -> Verified:
    """Look, then ask the planned addresses, all of them or those of some ``rows``.

    ``progress`` is told now and then how far it has come; who wants to see meanwhile who was heard
    gives the ``gathering``.
    Without ``elsewhere`` a device that is not where it is planned is missing, and it is not told
    where else it is: that takes half the time. Raises NotPossibleHere.
    """
    wanted = list(rows) or list(plan.rows)
    gathering = gathering or gathering_for(site, plan)
    orders = orders_for(adapter, site, gathering, methods=_METHODS)
    # A device that is elsewhere is named by its MAC; its identity matters once it is where it
    # belongs.
    own = own_addresses()
    addresses = [row.address for row in wanted if row.address not in own]
    around = {row.of.casefold() for row in wanted if row.of}
    addresses += [row.address for row in plan if row.name.casefold() in around]
    addresses = list(dict.fromkeys(addresses))
    within = [AddressRange(address, address) for address in addresses]
    orders = replace(orders, within=within, inside=planned_inside(plan, wanted, gathering).get)
    near, large = searchable(orders.ranges, addresses)
    if large and elsewhere:
        orders = replace(orders, ranges=near)
        tell(NotSearched(large))
    if not elsewhere:
        orders = replace(orders, ranges=within, listen=_AWHILE)
    else:
        orders = with_places_of(orders, site, gathering, [row.mac for row in wanted])

    def counted(outlook: Outlook) -> None:
        heard = gathering.heard_at(addresses)
        outlook.note = f"{heard} of {len(addresses)} planned addresses heard"
        progress(outlook)

    async with cable_of(adapter.name) as cable:
        looked = await look(adapter, orders, gathering, progress=counted, tell=tell)
        looked.to_its_end()
        devices = gathering.devices()
        if not devices and not looked.look.asked_nothing:
            tell(NothingHeard(adapter.name))
        no_echoes = ""
        reached: Mapping[IPv4Address, Reachability] = {}
        outlook = Outlook()
        try:
            with outlook.doing("echoes", _ECHOES * _ECHO_INTERVAL + _ECHO_WAIT):
                progress(outlook)
                reached = await _reach(adapter, site, plan, looked, devices, addresses)
        except NoPings as trouble:
            no_echoes = str(trouble)
    routers = {a: route.gateway for a in addresses if (route := adapter.leads_to(a))}
    asked = Asked(
        own={a: by for a, by in own.items() if any(row.address == a for row in wanted)},
        identity=looked.look.findings.asked,
        routers={a: router for a, router in routers.items() if router is not None},
        refused=dict(_refused(adapter, looked, addresses, reached, devices, no_echoes)),
        interrupted=say.HEARD_NOTHING(adapter=adapter.name) if cable.losses else None,
    )
    log = SettingsLog(site.folder)
    seen = RowsSeen(plan, devices, reached, asked, log.identities(), log.read_by_hand())
    ways = other_ways(adapter, [a for a in addresses if adapter.on_subnet_of(a)])
    for way in told_ways(adapter, ways):
        tell(way)
    return Verified(
        adapter,
        judge_parts(seen, judge(seen, wanted)),
        () if rows else unplanned(plan, devices),
        tuple(looked.look.not_run),
        ways,
        devices,
        looked,
        not rows,
    )


async def _reach(
    adapter: Adapter,
    site: Site,
    plan: Plan,
    looked: Looked,
    devices: Sequence[Device],
    addresses: Sequence[IPv4Address],
) -> dict[IPv4Address, Reachability]:
    """Echoes from here to what this computer is in a subnet of, or has a route to by this adapter;
    to what is in a subnet where the look had borrowed an address, from there."""
    results: list[Reachability] = []
    with paced(adapter.name, site.pace, _BURST_SECONDS) as runner:
        here = [a for a in addresses if adapter.on_subnet_of(a) or _is_routed(adapter, a)]
        present = {address for device in devices for address in device.addresses}
        echoed = await _echoes(runner, Rounds(adapter, here, site.pace), present)
        silent = [each for each in echoed if not each.answers]
        known = {r.target: r for r in await with_reasons(runner, adapter, plan, silent)}
        for each in echoed:
            better = known.get(each.target, each)
            # A device that tells about itself is certainly there.
            mute = not spoken(_at(devices, address_of(each.target)))
            results.append(better if better.is_own or mute else each)
        for borrowed in looked.look.borrowed:
            own = borrowed.interface
            there = [a for a in addresses if own and a in own.network and a not in here]
            if own is None or not there:
                continue
            with closing(Leg(runner, adapter.name, own)) as leg:
                rounds = Rounds(adapter, there, site.pace, vantage=leg.vantage)
                results += await _echoes(runner, rounds, present)
    return {address_of(result.target): result for result in results}


def _at(devices: Sequence[Device], address: IPv4Address) -> list[Device]:
    return [device for device in devices if address in device.addresses]


def _is_routed(adapter: Adapter, address: IPv4Address) -> bool:
    way = way_out(address)
    return way.adapter == adapter.name and way.router is not None


async def _echoes(
    runner: Runner, rounds: Rounds, present: Collection[IPv4Address]
) -> tuple[Reachability, ...]:
    """A few echoes; who is ``present`` and left some unanswered is asked again, more patiently."""
    results = await _series(runner, replace(rounds, wait=_ECHO_WAIT), _ECHOES)
    doubtful = [
        each.target
        for each in results
        if each.loss and (each.answers or address_of(each.target) in present)
    ]
    patient = replace(rounds, targets=doubtful, wait=LONG_WAIT)
    again = {each.target: each for each in await _series(runner, patient, _MORE_ECHOES)}
    return tuple(again.get(each.target, each) for each in results)


async def _series(runner: Runner, rounds: Rounds, count: int) -> tuple[Reachability, ...]:
    facts: list[Fact] = []
    if rounds.targets:
        await ask(runner, replace(rounds, interval=_ECHO_INTERVAL), count, facts.append)
    return summarise(rounds.targets, facts)


def _refused(
    adapter: Adapter,
    looked: Looked,
    addresses: Sequence[IPv4Address],
    reached: Mapping[IPv4Address, Reachability],
    devices: Sequence[Device],
    no_echoes: str,
) -> Iterator[tuple[IPv4Address, Finding]]:
    """Why addresses could not be asked.

    Where ARP is asked everywhere, nobody is there who does not answer it: that needs no address of
    the same subnet.
    """
    by_arp = not any(each.method is Method.ARP for each in looked.look.not_run)
    present = {address for device in devices for address in device.addresses}
    for address in addresses:
        if address in reached or (by_arp and address not in present):
            continue
        if no_echoes:
            if not spoken(_at(devices, address)):
                yield address, say.NOT_ASKED(because=no_echoes)
            continue
        yield address, say.NO_LEG_THERE(Line("match", address), adapter=adapter.name)
