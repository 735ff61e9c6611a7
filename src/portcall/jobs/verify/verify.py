"""The plan against the wire: looked at, then asked and pinged at the planned addresses."""

from __future__ import annotations

from dataclasses import dataclass, replace

from portcall.core.adapters.adapter import Adapter
from portcall.core.address import AddressRange
from portcall.core.find.device import Device
from portcall.core.find.sighting import Method
from portcall.core.plan.rows import Plan
from portcall.core.reach.echo_facts import Fact, address_of
from portcall.core.reach.statistics import summarise
from portcall.core.talk.pacer import BURST_SECONDS
from portcall.core.verify.judgement import Judgement, Verdict, judge, unplanned
from portcall.host.runner import paced
from portcall.jobs.look.findings import WIRE_METHODS, NotRun
from portcall.jobs.look.looked import look
from portcall.jobs.look.orders import gathering_for, orders_for
from portcall.jobs.reach.asking import Rounds, ask
from portcall.jobs.reach.reach import with_reasons
from portcall.jobs.telling import Tell, nobody
from portcall.site.folder import Site
from portcall.site.logbook.settings import SettingsLog

_BURST_SECONDS = BURST_SECONDS / 2
"""After each exchange with a program the kernel sends one or two packets of its own, which are
counted only afterwards: with the usual bursts the pace would be exceeded."""

_METHODS = tuple(method for method in WIRE_METHODS if method is not Method.PORTS)
"""Every way of saying who one is; which other doors are open is not judged."""

_ECHOES = 3
_ECHO_INTERVAL = 0.2
_ECHO_WAIT = 1.0


@dataclass(frozen=True, slots=True)
class Verified:
    """A judgement for each row, the devices that no row has, and what could not run."""

    judgements: tuple[Judgement, ...]
    unplanned: tuple[Device, ...]
    not_run: tuple[NotRun, ...]

    @property
    def right(self) -> int:
        """How many rows are right."""
        return sum(judgement.verdict is Verdict.RIGHT for judgement in self.judgements)

    @property
    def all_right(self) -> bool:
        """Whether every row is."""
        return self.right == len(self.judgements)


async def verify(adapter: Adapter, site: Site, plan: Plan, tell: Tell = nobody) -> Verified:
    """Look, then ask the planned addresses that this computer can speak to.

    Raises NotPossibleHere.
    """
    gathering = gathering_for(site, plan)
    orders = orders_for(adapter, site, gathering, methods=_METHODS)
    # What is elsewhere is named by its MAC; who it is matters once it is where it belongs.
    within = [AddressRange(row.address, row.address) for row in plan]
    orders = replace(orders, borrows=False, within=within)
    looked = (await look(adapter, orders, gathering, tell=tell)).to_its_end()
    addresses = [row.address for row in plan]
    targets = [address for address in addresses if adapter.on_subnet_of(address)]
    facts: list[Fact] = []
    with paced(adapter.name, site.pace, _BURST_SECONDS) as runner:
        rounds = Rounds(adapter, targets, site.pace, _ECHO_INTERVAL, _ECHO_WAIT)
        await ask(runner, rounds, _ECHOES, facts.append)
        results = await with_reasons(runner, adapter, plan, summarise(addresses, facts))
    reached = {address_of(result.target): result for result in results}
    devices = gathering.devices()
    judgements = judge(plan, devices, reached, SettingsLog(site.folder).identities())
    return Verified(judgements, unplanned(plan, devices), tuple(looked.not_run))
