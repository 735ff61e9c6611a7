"""Telling devices to hold the address they have, one after the other."""

from __future__ import annotations

import asyncio
from collections.abc import Sequence
from contextlib import ExitStack
from ipaddress import IPv4Interface

from portcall.core.adapters.adapter import Adapter
from portcall.core.find.sighting import Method
from portcall.core.finding import Line
from portcall.core.plan.rows import Plan
from portcall.core.plan.targets import Meant
from portcall.core.setting import sentences as say
from portcall.core.setting.had import DCP
from portcall.core.setting.job import Job, Outcome, undone
from portcall.host.rights import require_asking
from portcall.jobs.look.holders import taken_by
from portcall.jobs.look.locate import Located, locate
from portcall.jobs.setting.keep_one import keep, own_interface, release
from portcall.jobs.setting.log import Ended, remembering, written
from portcall.jobs.setting.naming import names_for
from portcall.jobs.telling import Tell
from portcall.jobs.workstation.visit import visit
from portcall.site.folder import Site
from portcall.site.logbook.settings import SettingsLog


def keep_each(
    adapter: Adapter,
    site: Site,
    plan: Plan,
    meant: Sequence[Meant],
    ended: Ended,
    tell: Tell,
    *,
    undo: bool = False,
    name: str | None = None,
    force: bool = False,
) -> bool:
    """Find the devices, and have each keep its address; whether all do.

    Where this computer is not in a device's subnet, it goes there for the time needed, and back.
    ``ended`` is told what came of each. With ``undo`` they ask by BOOTP or DHCP again. ``name`` is
    what a device is to call itself, too. Raises BadInput, NotPossibleHere.
    """
    require_asking()
    good = True
    names = [names_for(each, name) for each in meant]
    log = SettingsLog(site.folder, adapter.name)
    located = locate(adapter, site, plan, meant, tell)
    with ExitStack() as stack:
        for each, (called, unnamed) in zip(located, names, strict=True):
            outcome = _obstacle(each)
            if outcome is None:
                adapter = _beside(stack, adapter, each, site, tell)
                job = _job(adapter, each, called, name, force)
                outcome = _carry_out(adapter, each, job, undo, log)
            if outcome.by == DCP:
                outcome = outcome.with_findings(*unnamed)
            ended(each, outcome)
            good = good and outcome.done
    return good


def _beside(stack: ExitStack, adapter: Adapter, each: Located, site: Site, tell: Tell) -> Adapter:
    """The adapter when it is in the subnet of a device that is not set by DCP."""
    device, row = each.device, each.meant.row
    assert device is not None
    if Method.DCP in device.methods and row is not None:
        return adapter
    address = row.address if row is not None else device.addresses[0]
    return stack.enter_context(visit(adapter, address, site, tell))


def _obstacle(each: Located) -> Outcome | None:
    """Why nothing can be done about a device, or None."""
    device, row = each.device, each.meant.row
    if device is None:
        return undone(each.why_not)
    if Method.DCP in device.methods and row is not None:
        return None
    name, wanted = each.meant.name, row.address if row else None
    if not device.addresses:
        finding = say.NO_ADDRESS_YET(Line("assign", name, "--keep"))
    elif wanted is not None and wanted not in device.addresses:
        line = Line("move", name)
        finding = say.IS_ELSEWHERE(line, found_at=device.addresses[0], address=wanted)
    elif each.rivals:
        line = Line("move", each.mac, "--to", "ADDRESS/N")
        finding = say.SHARED_WITH(line, address=device.addresses[0], macs=each.rivals)
    else:
        return None
    return undone(finding)


def _job(
    adapter: Adapter, each: Located, called: str | None, typed: str | None, force: bool
) -> Job:
    row, device = each.meant.row, each.device
    assert device is not None
    address = row.address if row else device.addresses[0]
    interface = row.interface if row else IPv4Interface(address)
    if (row is None or row.mask_assumed) and address in device.addresses:
        # Nobody here knows the mask: what the device says is kept.
        told = asyncio.run(own_interface(adapter.name, each.mac, address))
        interface = told if told is not None and told.ip == address else interface
    return Job(
        each.meant.name,
        each.mac,
        interface,
        row.gateway if row else None,
        station_name=called,
        host_name=typed,
        force=force,
    )


def _carry_out(adapter: Adapter, each: Located, job: Job, undo: bool, log: SettingsLog) -> Outcome:
    remember = remembering(log, job)
    taken = None if undo else taken_by(adapter, job)
    if taken:
        return written(log, job, undone(taken))
    if undo:
        work = release(adapter.name, job, remember, log.before_keeping(each.mac))
    else:
        by_dcp = each.device is not None and Method.DCP in each.device.methods
        work = keep(adapter.name, job, remember, by_dcp)
    return written(log, job, asyncio.run(work))
