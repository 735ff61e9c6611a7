"""``portcall keep``."""

from __future__ import annotations

import asyncio
from ipaddress import IPv4Interface

import click

from portcall.cli.main import NO, YES
from portcall.cli.outcomes import noted, outcome_document, remembering, say_outcome
from portcall.cli.say import json_option, print_json
from portcall.cli.targets import Located, locate, names_for, parse_device, taken_by
from portcall.cli.workplace import (
    adapter_option,
    capture_option,
    chosen_adapter,
    record,
    this_site,
)
from portcall.core.adapters.adapter import Adapter
from portcall.core.find.sighting import Method
from portcall.core.setting.job import Job, Outcome
from portcall.core.trouble import BadInput
from portcall.host.jobs.keep import DCP, keep, own_interface, release
from portcall.host.privilege import Privilege, require
from portcall.site.record import Record


@click.command("keep")
@click.argument("targets", nargs=-1, metavar="TARGET…", required=True)
@click.option("--undo", is_flag=True, help="Have them ask by BOOTP or DHCP again instead.")
@click.option("--name", metavar="NAME", help="Have a device call itself so, too.")
@click.option("--force", is_flag=True, help="Also a device that is controlling something.")
@adapter_option
@capture_option
@json_option
def keep_command(
    targets: tuple[str, ...],
    undo: bool,
    name: str | None,
    force: bool,
    adapter_name: str | None,
    capture: str | None,
    as_json: bool,
) -> int:
    """Tell devices to hold the address they have, also when the power was off.

    TARGET is a planned name, a MAC or an address. By CIP a device takes the address it was given as
    its own; by DCP its planned address and station name are set for good. Each is read back. Ends
    with 0 when every device holds its address.
    """
    if name is not None and (len(targets) > 1 or undo):
        raise BadInput("--name is for one TARGET, and not for --undo")
    site = this_site()
    plan = site.plan()
    meant = [parse_device(text, plan) for text in dict.fromkeys(targets)]
    adapter = chosen_adapter(adapter_name)
    record(adapter, capture)
    require(Privilege.NET_RAW)
    names = [names_for(each, name) for each in meant]
    log = Record(site.folder)
    located = locate(adapter, site, plan, meant)
    documents = []
    good = True
    for each, (called, unnamed) in zip(located, names, strict=True):
        outcome = _obstacle(adapter, each)
        if outcome is None:
            job = _job(adapter, each, called, name, force)
            outcome = _carry_out(adapter, each, job, undo, log)
        if outcome.by == DCP:
            outcome = outcome.with_findings(*unnamed)
        good = good and outcome.done
        if as_json:
            documents.append(outcome_document(each, outcome, "kept"))
        else:
            say_outcome(each, outcome, "asks again" if undo else "holds its address")
    if as_json:
        print_json({"adapter": adapter.name, "devices": documents})
    return YES if good else NO


def _obstacle(adapter: Adapter, each: Located) -> Outcome | None:
    """Why nothing can be done about a device, or None."""
    device, row = each.device, each.meant.row
    if device is None:
        return Outcome(False, findings=(each.reason,))
    if Method.DCP in device.methods and row is not None:
        return None
    name, wanted = each.meant.name, row.address if row else None
    if not device.addresses:
        sentence = f"it has no address yet: portcall assign {name} --keep"
    elif wanted is not None and wanted not in device.addresses:
        sentence = f"it is at {device.addresses[0]}, not at {wanted}: portcall move {name}"
    elif adapter.on_subnet_of(wanted or device.addresses[0]) is None:
        sentence = f"{adapter.name} is not in its subnet: portcall match {name}"
    else:
        return None
    return Outcome(False, findings=(sentence,))


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


def _carry_out(adapter: Adapter, each: Located, job: Job, undo: bool, log: Record) -> Outcome:
    remember = remembering(log, job)
    taken = None if undo else taken_by(adapter, job)
    if taken:
        return noted(log, job, Outcome(False, findings=(taken,)))
    if undo:
        work = release(adapter.name, job, remember, log.before_keeping(each.mac))
    else:
        by_dcp = each.device is not None and Method.DCP in each.device.methods
        work = keep(adapter.name, job, remember, by_dcp)
    return noted(log, job, asyncio.run(work))
