"""``portcall move``."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from ipaddress import IPv4Interface

import click

from portcall.cli.main import NO, YES
from portcall.cli.moving import Mover
from portcall.cli.outcomes import outcome_document, say_outcome
from portcall.cli.say import json_option, print_json
from portcall.cli.series import Series, check_series
from portcall.cli.targets import Located, Meant, locate, names_for, parse_device
from portcall.cli.workplace import (
    adapter_option,
    capture_option,
    chosen_adapter,
    record,
    this_site,
)
from portcall.core.address import check_host, parse_address, parse_interface
from portcall.core.find.sighting import Method
from portcall.core.plan.rows import ASSUMED_PREFIX, Plan, PlannedDevice, prefix_for
from portcall.core.setting.job import Outcome
from portcall.core.trouble import BadInput
from portcall.host.privilege import Privilege, require
from portcall.site.folder import Site
from portcall.site.record import Record

LONGEST_WAIT = 1e6


@click.command("move")
@click.argument("devices", nargs=-1, metavar="DEVICE…")
@click.option("--to", metavar="ADDRESS[/N]", help="Move one DEVICE there, not where it is planned.")
@click.option(
    "--series",
    metavar="ADDRESS",
    help="Devices that all start at ADDRESS, connected one after the other, as they are asked for.",
)
@click.option(
    "--wait",
    default="120",
    show_default=True,
    metavar="SECONDS",
    help="How long to watch for a device at its new address, or forever.",
)
@click.option("--name", metavar="NAME", help="Have DEVICE call itself so, not as the plan does.")
@click.option("--no-name", is_flag=True, help="Leave the names that devices have.")
@click.option("--force", is_flag=True, help="Also a device that is controlling something.")
@adapter_option
@capture_option
@json_option
def move_command(
    devices: tuple[str, ...],
    to: str | None,
    series: str | None,
    wait: str,
    name: str | None,
    no_name: bool,
    force: bool,
    adapter_name: str | None,
    capture: str | None,
    as_json: bool,
) -> int:
    """Bring a DEVICE from the address it has, or none, to its planned one, and prove it is there.

    DEVICE is a planned name, a MAC or the address it has now. By DCP it needs no address for that;
    by CIP this computer goes into its subnet for the time needed, and back. Any other is set by
    hand: its web page is named, and move waits. It ends when the same MAC answers at the new
    address and nowhere else. Safe to repeat.
    """
    if series is None and not devices:
        raise click.UsageError("name a DEVICE, or --series ADDRESS")
    if (to or name) and (len(devices) != 1 or series):
        raise BadInput("--to and --name are for one DEVICE, and not for --series")
    if name and no_name:
        raise BadInput("--name and --no-name contradict each other")
    seconds = _seconds(wait)
    start = parse_address(series) if series else None
    site = this_site()
    plan = site.plan()
    meant = [parse_device(text, plan) for text in dict.fromkeys(devices)]
    if start is None:
        meant = [_with_goal(each, to, site, plan) for each in meant]
    else:
        check_series(meant, plan, as_json)
    if name is not None:
        names_for(meant[0], name)  # Refused before anything is sent.
    adapter = chosen_adapter(adapter_name)
    ours = {own.ip for own in adapter.interfaces}
    for row in (device.row for device in meant):
        if row is not None and row.address in ours:
            raise BadInput(f"{row.address}: this computer has it on {adapter.name}")
    record(adapter, capture)
    require(Privilege.NET_RAW)
    log = Record(site.folder)
    with Mover(adapter, site, log, seconds, force) as mover:
        if start is not None:
            return Series(mover, start, named=not no_name).run([each.name for each in meant])
        return _move_all(mover, meant, plan, name, no_name, as_json)


def _move_all(
    mover: Mover, meant: Sequence[Meant], plan: Plan, name: str | None, no_name: bool, as_json: bool
) -> int:
    """Find the devices, move one after the other, and say how each went."""
    documents = []
    good = True
    for found in locate(mover.adapter, mover.site, plan, meant, everywhere=True):
        each = _recognised(found, plan)
        outcome = _obstacle(each)
        if outcome is None:
            called, unnamed = (None, ()) if no_name else names_for(each.meant, name)
            outcome = mover.move(each, called).with_findings(*unnamed)
        good = good and outcome.done
        goal = each.meant.row.interface if each.meant.row else None
        if as_json:
            documents.append(outcome_document(each, outcome, "moved"))
        else:
            say_outcome(each, outcome, f"is at {goal}")
    if as_json:
        print_json({"adapter": mover.adapter.name, "devices": documents})
    return YES if good else NO


def _seconds(text: str) -> float | None:
    if text == "forever":
        return None
    try:
        seconds = float(text)
    except ValueError:
        seconds = -1.0
    if not 0 < seconds <= LONGEST_WAIT:
        raise BadInput(f"--wait {text}: is a number of seconds over 0, or forever")
    return seconds


def _with_goal(meant: Meant, to: str | None, site: Site, plan: Plan) -> Meant:
    """Where a device is to go: where it is planned, or where ``--to`` says. Raises BadInput."""
    row = meant.row
    if to is None:
        if row is None and meant.address is None:
            raise BadInput(_nowhere(meant))
        if row is not None and row.mac is None and meant.address is None and meant.mac is None:
            raise BadInput(
                f"{row.name}: has no MAC in the plan, so nobody can tell which device it is; name "
                f"it by its MAC or address with --to {row.interface}, or see --series"
            )
        return meant
    interface, assumed = _goal(to, row, site)
    holder = plan.by_address(interface.ip)
    if holder is not None and holder.mac is None and row is None:
        # A row that waits to be told which device it is.
        return replace(meant, row=replace(holder, interface=interface))
    if holder is not None and holder is not row:
        raise BadInput(f"{interface.ip}: the plan gives it to {holder.name}")
    if row is None:
        device = PlannedDevice(meant.words, interface, meant.mac, mask_assumed=assumed)
        return replace(meant, row=device)
    gateway = row.gateway if row.gateway and row.gateway in interface.network else None
    there = replace(row, interface=interface, gateway=gateway, mask_assumed=assumed)
    return replace(meant, row=there)


def _goal(to: str, row: PlannedDevice | None, site: Site) -> tuple[IPv4Interface, bool]:
    """An address with its mask, and whether that is an assumption. Raises BadInput."""
    assumed = False
    if "/" not in to:
        address = parse_address(to)
        prefix = prefix_for(address, site.subnets)
        if row is not None and not row.mask_assumed and address in row.interface.network:
            prefix = row.interface.network.prefixlen
        assumed = prefix is None
        to = f"{address}/{prefix or ASSUMED_PREFIX}"
    interface = parse_interface(to)
    check_host(interface)
    return interface, assumed


def _recognised(each: Located, plan: Plan) -> Located:
    """A device that was named by where it is has its row by the MAC that was found there."""
    if each.meant.row is not None or each.device is None:
        return each
    row = plan.by_mac(each.device.mac)
    if row is None:
        return Located(each.meant, None, _nowhere(each.meant))
    return replace(each, meant=replace(each.meant, row=row))


def _nowhere(meant: Meant) -> str:
    return f"{meant.words}: is not in the plan; say where to with --to ADDRESS/N"


def _obstacle(each: Located) -> Outcome | None:
    """Why a device cannot be moved, or None."""
    device = each.device
    if device is None:
        return Outcome(False, findings=(each.reason,))
    if Method.DCP in device.methods:
        return None
    if device.asks and not device.addresses:
        how = device.asks[0].protocol
        sentence = f"it asks for an address by {how}: portcall assign {each.meant.name} --keep"
    elif not device.addresses:
        sentence = "it has no IPv4 address and answers no DCP: set it at its own panel"
    elif device.rivals:
        at, others = device.addresses[0], ", ".join(str(mac) for mac in device.rivals)
        sentence = f"{at} is shared with {others}: unplug one, or see --series"
    else:
        return None
    return Outcome(False, findings=(sentence,))
