"""``portcall verify``."""

from __future__ import annotations

import click

from portcall.cli.main import NO, NOT_POSSIBLE, YES
from portcall.cli.options import (
    adapter_option,
    capture_option,
    chosen_adapter,
    group_option,
    json_option,
    plan_that_is_there,
    say_what_rights_are_missing,
    targets_meant,
    visits_a_device,
)
from portcall.cli.recording import recorded
from portcall.cli.running import run
from portcall.cli.say import note, print_json, wants_json
from portcall.cli.table import wide_option
from portcall.cli.views.verified import document, print_verified
from portcall.cli.views.verifying import verifying_view
from portcall.core.adapters.adapter import Adapter
from portcall.core.finding import Line, Name, Setting, as_json
from portcall.core.plan.rows import Plan, PlannedDevice
from portcall.core.plan.targets import parse_device, with_group
from portcall.core.record.entry import Kind
from portcall.core.setting.power_cycle import Return
from portcall.core.trouble import BadInput
from portcall.core.verify.planned_values import parse_reading
from portcall.jobs.look.orders import gathering_for
from portcall.jobs.record.by import By
from portcall.jobs.record.looks import look_body
from portcall.jobs.setting.power_cycle import Cycled, watch_power_cycle
from portcall.jobs.verify import verify
from portcall.site.folder import Site, this_site
from portcall.site.logbook.settings import SettingsLog


@click.command("verify")
@click.argument("names", nargs=-1, metavar="[NAME]…")
@click.option(
    "--power-cycle",
    "cycled",
    metavar="NAME",
    help="Watch this device be switched off and on instead: does it keep its address?",
)
@click.option(
    "--wait",
    default=120.0,
    show_default=True,
    metavar="SECONDS",
    type=click.FloatRange(0, 1e6, min_open=True),
    help="How long to watch for that.",
)
@click.option(
    "--read",
    "read",
    multiple=True,
    metavar="COLUMN=VALUE",
    help="What you read at the device itself, where it tells that by no protocol.",
)
@wide_option
@group_option
@adapter_option
@capture_option
@json_option
def verify_command(
    names: tuple[str, ...],
    cycled: str | None,
    wait: float,
    read: tuple[str, ...],
    wide: bool,
    group: str | None,
) -> int:
    """Hold the plan against the wire: is each device there, the right one, and answering?

    NAME judges these planned devices only. Ends with 0 when every one is right, 1 when one is
    wrong, else 3: one could not be judged, or not all of it was read.

    \b
    portcall verify
    portcall verify --power-cycle fan-drive-1
    portcall verify fan-panel --read mask=255.255.255.0
    """
    site = this_site()
    plan = plan_that_is_there(site)
    if (names or group) and cycled is not None:
        raise BadInput("--power-cycle NAME watches that one device: name no other with it")
    if names or (group is None and cycled is None and visits_a_device()):
        names = targets_meant(names, site, plan, By.DEVICE)
    names = with_group(names, group, plan, parts=True)
    rows = [_row(name, plan) for name in names]
    readings = dict(parse_reading(each) for each in read)
    if readings and (len(rows) != 1 or cycled is not None):
        raise BadInput("--read tells what was read at one device: name that one, and no other")
    adapter = chosen_adapter((rows or plan.rows)[0].address)
    say_what_rights_are_missing()
    if cycled is not None:
        return _power_cycle(adapter, site, plan, cycled, wait)
    if readings:
        _write_down(site, rows[0], readings)
    gathering = gathering_for(site, plan)
    with verifying_view(gathering, rows or plan.devices) as draw:
        verified = run(verify(adapter, site, plan, rows, note, progress=draw, gathering=gathering))
    if verified.looked is not None:
        body = look_body(verified.looked, verified.devices, **document(verified))
        told = f"{verified.right} right, {verified.wrong} wrong, {verified.not_judged} not judged"
        recorded(site, Kind.VERIFICATION, told, body, adapter=adapter.name)
    if wants_json():
        print_json(document(verified))
    else:
        print_verified(verified, wide)
    if verified.wrong:
        return NO
    return NOT_POSSIBLE if verified.not_judged else YES


def _write_down(site: Site, row: PlannedDevice, readings: dict[str, str]) -> None:
    """Keep what a person read at a device. Raises BadInput, NotPossibleHere."""
    if row.mac is None:
        raise BadInput(
            f"{row.name}: what is read at a device is kept by its MAC, and the plan has none",
            Line("plan set", row.name, Setting(Name("mac"), "MAC")),
        )
    SettingsLog(site.folder).write_read(row.name, row.mac, readings)


def _row(name: str, plan: Plan) -> PlannedDevice:
    row = parse_device(name, plan, parts=True).row
    if row is None:
        raise BadInput(f"{name}: is not in the plan, so nothing is known that it should be")
    return row


_WHAT_TO_DO = {
    Return.ASKING: "portcall keep {name} makes it keep an address, once it has one",
    Return.ELSEWHERE: "portcall move {name}",
    Return.MISSING: "look for it: portcall find",
}


def _power_cycle(adapter: Adapter, site: Site, plan: Plan, name: str, wait: float) -> int:
    """Watch a planned device vanish and return. Raises BadInput and NotPossibleHere."""
    meant = parse_device(name, plan)
    if meant.row is None:
        raise BadInput(f"{name}: is not in the plan, so no address is known that it should keep")
    cycled = watch_power_cycle(adapter, site, plan, meant, wait, note)
    recorded(
        site,
        Kind.POWER_CYCLE,
        str(cycled.finding),
        _cycled_document(cycled),
        adapter=adapter.name,
        name=meant.name,
        mac=str(cycled.found.mac) if cycled.found.device else "",
        address=str(meant.row.address),
    )
    if wants_json():
        print_json(_cycled_document(cycled))
    else:
        _print_cycled(cycled)
    return YES if cycled.judged is Return.KEPT else NO


def _print_cycled(cycled: Cycled) -> None:
    name, judged = cycled.found.meant.name, cycled.judged
    verdict, colour = "does NOT keep its address", "red"
    if judged is Return.KEPT:
        verdict, colour = "keeps its address", "green"
    elif judged in (None, Return.NOT_OFF):
        verdict, colour = "not proven", "yellow"
    click.echo(f"{name}: {click.style(verdict, fg=colour, bold=True)}: {cycled.finding}")
    to_do = _WHAT_TO_DO.get(judged) if judged else None
    if to_do:
        click.echo(f"    {to_do.format(name=name)}")


def _cycled_document(cycled: Cycled) -> dict[str, object]:
    found, seconds = cycled.found, cycled.seconds
    return {
        "name": found.meant.name,
        "mac": str(found.mac) if found.device else None,
        "address": str(found.meant.row.address) if found.meant.row else None,
        "verdict": cycled.judged,
        "seconds": None if seconds is None else round(seconds, 3),
        "findings": [str(cycled.finding)],
        "codes": [as_json(cycled.finding)],
    }
