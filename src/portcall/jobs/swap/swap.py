"""Giving a new device the place of the one that is gone: address, name, proof, and then the plan.

The plan is written last, and in one piece. Whoever ends this before finds the plan as it was, and
the device as far as it came: typed again, it is found at its new address or on its way there, and
what is done already is not done again.
"""

from __future__ import annotations

import asyncio
from collections.abc import Callable, Coroutine, Mapping, Sequence
from dataclasses import dataclass, field, replace
from time import monotonic
from typing import Any, TypeAlias

from portcall.core.adapters.adapter import Adapter
from portcall.core.address import Mac
from portcall.core.catalog.catalog import USUAL_DOORS
from portcall.core.find.device import Device
from portcall.core.find.sighting import Field, Method
from portcall.core.finding import Finding, Line
from portcall.core.plan.changing import setting
from portcall.core.plan.rows import Plan, PlannedDevice
from portcall.core.plan.targets import Meant
from portcall.core.printable import for_spreadsheets
from portcall.core.setting import sentences as say
from portcall.core.setting.job import Job, Outcome, undone
from portcall.core.swap import (
    Candidate,
    Predecessor,
    in_the_way,
    other_product,
    own_words,
    unlike,
)
from portcall.core.trouble import NotPossibleHere
from portcall.core.verify.judgement import Judgement, Verdict
from portcall.core.wire import cip, modbus
from portcall.jobs.assign.assignment import Assignment, HowToAssign, looked_before
from portcall.jobs.assign.before import Before
from portcall.jobs.assign.rows import Served, in_reach, rows_to_serve
from portcall.jobs.look.interrogate import identity_in, interrogate_again
from portcall.jobs.look.locate import Located
from portcall.jobs.setting.keep_one import keep
from portcall.jobs.setting.log import remembering, written
from portcall.jobs.setting.mover import Mover
from portcall.jobs.setting.naming import names_for
from portcall.jobs.swap.looking import Around
from portcall.jobs.telling import Tell
from portcall.jobs.verify import verify
from portcall.jobs.workstation.visit import visit
from portcall.site.folder import Site
from portcall.site.logbook.settings import SettingsLog

Until: TypeAlias = Callable[[Callable[[asyncio.Event], Coroutine[Any, Any, None]]], bool]
"""Runs a job that ends early when its event is set; whether Ctrl-C had set it."""

_LEASE = 3600
"""Seconds; the device is told to hold its address as soon as it has it."""

_ATTEMPTS, _BETWEEN = 5, 1.0
"""A device answers by ARP before its programs have started."""

_STARTING = 4.0
"""Seconds in which a device that has just got its address begins to say what it is."""

_TELLING = (cip.PORT, modbus.PORT)
"""Ports behind which a device that had no address says what product it is."""


@dataclass(frozen=True, slots=True)
class Swapped:
    """The result of a swap: ``judgement`` is the row's with the new MAC; ``seconds`` it took.

    ``planned`` says whether the plan has the new MAC now.
    """

    row: PlannedDevice
    old: Mac
    outcome: Outcome
    judgement: Judgement | None
    planned: bool
    seconds: float
    unlike: tuple[Finding, ...] = ()

    @property
    def is_right(self) -> bool:
        """Whether all is as it should be, as far as it was read: in place, holding its address."""
        judged = self.judgement
        right = judged is not None and (judged.verdict is Verdict.RIGHT or judged.is_unread)
        return right and self.outcome.done and self.planned


@dataclass(frozen=True, slots=True)
class HowToSwap:
    """``wait`` in seconds for a device that is set by hand; None has no end.

    ``may_be_other`` is asked when the new one is another product, with what differs, and
    ``may_stay_open`` when it does not hold its address, before the plan is changed.
    """

    wait: float | None = 120.0
    force: bool = False
    alongside: bool = False
    may_be_other: Callable[[Sequence[Finding]], bool] = lambda differences: False
    may_stay_open: Callable[[Sequence[Finding]], bool] = lambda findings: True


def swap(
    adapter: Adapter,
    site: Site,
    plan: Plan,
    around: Around,
    new: Candidate,
    how: HowToSwap,
    tell: Tell,
    until: Until,
) -> Swapped | None:
    """Bring the new device to the row's address, prove it, and write its MAC into the plan.

    None when Ctrl-C ended it: then the plan is as it was. Raises NotPossibleHere, BadInput.
    """
    began = monotonic()
    gone = around.gone
    # The serial number of the new device is read from it.
    row = replace(gone.row, mac=new.mac, expected=replace(gone.row.expected, serial=""))
    taken = in_the_way(row, new.mac, around.devices, {own.ip for own in adapter.interfaces})
    if taken is not None:
        return Swapped(row, gone.mac, undone(taken), None, False, 0.0)
    agreed = _Agreed(gone, how)
    if not agreed.to(new.said):
        return _another(row, gone, new.said)
    by_request = new.device.asks and not new.device.addresses
    with Mover(adapter, site, how.wait, how.force, tell) as mover:
        if by_request and Method.DCP not in new.device.methods:
            with visit(adapter, row.address, site, tell) as there:
                outcome = _serve(there, site, row, around, how, tell, until)
                if outcome is None:
                    return None
                if not outcome.findings:
                    said = _identity(there, site, row) if Field.PRODUCT in gone.said else {}
                    if not agreed.to(said):
                        return _another(row, gone, said, True, monotonic() - began)
                    outcome = _have_it_keep(there, site, row, how)
                judgement, device = judge_row(there, site, plan, row, tell)
        else:
            meant = Meant(row.name, row, new.mac)
            called, unnamed = names_for(meant, None)
            outcome = mover.move(Located(meant, new.device), called).with_findings(*unnamed)
            judgement, device = judge_row(mover.adapter, site, plan, row, tell)
    told = own_words(device) if device is not None else {}
    planned = judgement.is_in_place and agreed.to(told)
    if planned and not outcome.done:
        planned = how.may_stay_open(outcome.findings)
    if planned:
        cells = {"mac": str(new.mac)}
        if gone.row.expected.serial and Field.SERIAL in told:
            cells["serial"] = for_spreadsheets(told[Field.SERIAL])
        site.change_plan(setting(row.name, cells))
    seconds = monotonic() - began
    return Swapped(row, gone.mac, outcome, judgement, planned, seconds, tuple(unlike(gone, told)))


@dataclass(slots=True)
class _Agreed:
    """Whether the new one may be what it is; a person is asked once about the same difference."""

    gone: Predecessor
    how: HowToSwap
    _agreed: set[Finding] = field(default_factory=set)

    def to(self, said: Mapping[Field, str]) -> bool:
        """Whether a device that says this of itself may take the place."""
        new = [each for each in other_product(self.gone, said) if each not in self._agreed]
        if not new:
            return True
        self._agreed.update(new)
        return self.how.may_be_other(new)


def _another(
    row: PlannedDevice,
    gone: Predecessor,
    said: Mapping[Field, str],
    is_given: bool = False,
    seconds: float = 0.0,
) -> Swapped:
    """The new one is another product, and nobody has said that it may be."""
    assert row.mac is not None
    finding = say.ANOTHER_PRODUCT(
        Line("swap", row.name, "--with", row.mac, "--other-product"),
        differences=tuple(other_product(gone, said)),
        address=row.address if is_given else None,
    )
    return Swapped(row, gone.mac, undone(finding), None, False, seconds)


def _identity(adapter: Adapter, site: Site, row: PlannedDevice) -> dict[Field, str]:
    """The identity that the device at the row's address tells, once its programs answer."""
    doors = {port: name for port, name in USUAL_DOORS.items() if port in _TELLING}
    said = asyncio.run(interrogate_again(adapter.name, row.address, doors, site.pace, _STARTING))
    return identity_in(said)


def _serve(
    adapter: Adapter,
    site: Site,
    row: PlannedDevice,
    around: Around,
    how: HowToSwap,
    tell: Tell,
    until: Until,
) -> Outcome | None:
    """Answer its requests until it has its address; with findings when it has not, and None after
    Ctrl-C.
    """
    served = Served(site, (f"{row.mac}={row.interface}",), adapter)
    options = HowToAssign(_LEASE, seconds=how.wait, until_done=True, alongside=how.alongside)
    _refuse_beside(around, served, options, tell)
    plan = in_reach(rows_to_serve(site, served.words), adapter)
    assignment = Assignment(served, plan, options, tell)

    async def work(interrupt: asyncio.Event) -> None:
        await assignment.run(Before(), interrupt)

    if until(work):
        return None
    if assignment.board.missing:
        state = assignment.board.rows[0]
        because = state.detail or state.state
        return undone(say.NOT_GIVEN(address=row.address, because=because))
    return Outcome(False)


def _have_it_keep(adapter: Adapter, site: Site, row: PlannedDevice, how: HowToSwap) -> Outcome:
    """Have the device hold the address that it was given."""
    called, unnamed = names_for(Meant(row.name, row, row.mac), None)
    assert row.mac is not None
    job = Job(row.name, row.mac, row.interface, row.gateway, row.address, called, called)
    log = SettingsLog(site.folder, adapter.name)
    kept = asyncio.run(_keep(adapter, replace(job, force=how.force), remembering(log, job)))
    return written(log, job, kept).with_findings(*unnamed)


async def _keep(adapter: Adapter, job: Job, remember: Callable[..., None]) -> Outcome:
    """Have it hold its address, once its programs answer."""
    for _ in range(_ATTEMPTS):
        outcome = await keep(adapter.name, job, remember, by_dcp=False)
        if outcome.by is not None:
            break
        await asyncio.sleep(_BETWEEN)
    return outcome


def _refuse_beside(around: Around, served: Served, options: HowToAssign, tell: Tell) -> None:
    """Raise NotPossibleHere where another DHCP server is, unless it is to serve alongside."""
    if not around.asked_for_servers:
        asyncio.run(looked_before(served, Plan(), options, tell))
        return
    for server in around.servers:
        at = ", ".join(str(address) for address in server.addresses) or str(server.mac)
        sentence = f"another DHCP server is here: {at}"
        if not options.alongside:
            raise NotPossibleHere(f"{sentence}. Unplug it, or swap --alongside it")
        tell(sentence)


def judge_row(
    adapter: Adapter, site: Site, plan: Plan, row: PlannedDevice, tell: Tell
) -> tuple[Judgement, Device | None]:
    """Verify's judgement of a row, which replaces the plan's of its name; and its device."""
    rows = tuple(row if each.name == row.name else each for each in plan)
    verified = asyncio.run(
        verify(adapter, site, Plan(rows, plan.columns), [row], tell, elsewhere=False)
    )
    device = next((each for each in verified.devices if each.mac == row.mac), None)
    return verified.judgements[0], device
