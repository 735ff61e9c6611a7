"""``portcall move``."""

from __future__ import annotations

import sys
from collections.abc import Sequence

import click

from portcall.cli.main import NO, YES
from portcall.cli.options import (
    adapter_option,
    capture_option,
    chosen_adapter,
    group_option,
    json_option,
    targets_meant,
    visits_a_device,
)
from portcall.cli.say import note, wants_json
from portcall.cli.views.outcomes import OutcomeView
from portcall.cli.views.series import AtTheTerminal
from portcall.core.address import parse_address
from portcall.core.plan.rows import Plan
from portcall.core.plan.targets import Meant, first_address, parse_device, with_group
from portcall.core.trouble import BadInput
from portcall.jobs.look.locate import Located
from portcall.jobs.record.by import By
from portcall.jobs.setting.move_each import move_each, refuse_own, undo_each, with_goal
from portcall.jobs.setting.mover import Mover
from portcall.jobs.setting.naming import names_for
from portcall.jobs.setting.series import Series
from portcall.jobs.workstation.next_free import next_free
from portcall.site.folder import this_site
from portcall.site.visits import arrived

LONGEST_WAIT = 1e6


@click.command("move")
@click.argument("devices", nargs=-1, metavar="DEVICE…")
@click.option(
    "--to",
    metavar="ADDRESS[/N]",
    help="Move one DEVICE there, not where it is planned; next is the next free address.",
)
@click.option("--gateway", metavar="ADDRESS", help="The gateway that one DEVICE gets with --to.")
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
@click.option("--name", metavar="NAME", help="Give DEVICE this name, not the one in the plan.")
@click.option("--no-name", is_flag=True, help="Leave the names that devices have.")
@click.option("--undo", is_flag=True, help="Bring DEVICE back to what it had before it was set.")
@click.option("--force", is_flag=True, help="Set a device even when it is controlling something.")
@group_option
@adapter_option
@capture_option
@json_option
def move_command(
    devices: tuple[str, ...],
    to: str | None,
    gateway: str | None,
    series: str | None,
    wait: str,
    name: str | None,
    no_name: bool,
    undo: bool,
    force: bool,
    group: str | None,
) -> int:
    """Bring a DEVICE from the address it has, or none, to its planned one, and prove it is there.

    DEVICE is a planned name, a MAC or the address it has now. By DCP it needs no address for that;
    by CIP this computer goes into its subnet for the time needed, and back. Any other is set by
    hand: its web page is named, and move waits. It ends when the same MAC answers at the new
    address and nowhere else. Safe to repeat. All that is overwritten is written down first; --undo
    brings that back.

    \b
    portcall move weigh-gateway
    portcall move 02-77-B1-90-00-3D --to 10.61.20.31/24
    """
    if not (devices or series or group or visits_a_device()):
        raise click.UsageError("name a DEVICE, --group GROUP, or --series ADDRESS")
    if gateway and not to:
        raise BadInput("--gateway goes with --to, and a planned device's gateway is in its row")
    if (to or name) and (len(devices) > 1 or group or series):
        raise BadInput("--to and --name are for one DEVICE, and not for --series")
    if name and no_name:
        raise BadInput("--name and --no-name contradict each other")
    if undo and (to or name or series or no_name):
        raise BadInput("--undo uses what was recorded, and takes no other option")
    seconds = _seconds(wait)
    start = parse_address(series) if series else None
    site = this_site()
    plan = site.plan()
    if devices or (group is None and series is None):
        devices = targets_meant(devices, site, plan, By.DEVICE)
    devices = with_group(devices, group, plan)
    meant = [parse_device(text, plan) for text in dict.fromkeys(devices)]
    if start is None and not undo:
        if to == "next":
            to = str(next_free(chosen_adapter(), site, plan, note))
        meant = [with_goal(each, to, site, plan, gateway) for each in meant]
    elif start is not None:
        _check_series(meant, plan)
    if name is not None:
        names_for(meant[0], name)  # Refused before anything is sent.
    adapter = chosen_adapter(start or first_address(meant))
    if not undo:
        refuse_own(adapter, meant)
    with Mover(adapter, site, seconds, force, note) as mover:
        if start is not None:
            series_of = Series(mover, start, not no_name, AtTheTerminal())
            return YES if series_of.run([each.name for each in meant]) else NO
        if undo:
            return _undo_all(mover, meant, plan)
        code = _move_all(mover, meant, plan, name, not no_name)
    _until_the_visit_is_there(meant)
    return code


def _until_the_visit_is_there(meant: Sequence[Meant]) -> None:
    """In a visit's shell, end when the visit has followed the device that was moved."""
    if visits_a_device() and len(meant) == 1 and meant[0].row is not None:
        arrived(meant[0].row.address)


def _move_all(
    mover: Mover, meant: Sequence[Meant], plan: Plan, name: str | None, named: bool
) -> int:
    """Move one after the other, and say how each went."""
    shown = OutcomeView("moved", _is_at)
    good = move_each(mover, meant, plan, shown.ended, name, named)
    shown.finish(mover.adapter.name)
    return YES if good else NO


def _undo_all(mover: Mover, meant: Sequence[Meant], plan: Plan) -> int:
    """Bring back one after the other, and say how each went."""
    shown = OutcomeView("undone", lambda which: "is set as it was before")
    good = undo_each(mover, meant, plan, shown.ended)
    shown.finish(mover.adapter.name)
    return YES if good else NO


def _is_at(which: Located) -> str:
    return f"is at {which.meant.row.interface if which.meant.row else None}"


def _check_series(meant: Sequence[Meant], plan: Plan) -> None:
    """Raise BadInput where there are no rows for it, or nobody who connects the next device."""
    stranger = next((each.words for each in meant if each.row is None or each.address), None)
    if stranger is not None:
        raise BadInput(f"{stranger}: --series takes the names of planned devices")
    if not plan.devices:
        raise BadInput("--series needs a plan, and there is no plan.csv in this folder or above it")
    if wants_json() or not sys.stdin.isatty():
        raise BadInput("--series needs a person at a terminal who connects devices, and no --json")


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
