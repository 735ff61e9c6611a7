"""``portcall keep``."""

from __future__ import annotations

import click

from portcall.cli.main import NO, YES
from portcall.cli.options import (
    adapter_option,
    capture_option,
    chosen_adapter,
    group_option,
    json_option,
    targets_meant,
)
from portcall.cli.say import note
from portcall.cli.views.outcomes import OutcomeView
from portcall.core.plan.targets import first_address, parse_device, with_group
from portcall.core.trouble import BadInput
from portcall.jobs.record.by import By
from portcall.jobs.setting.keep_each import keep_each
from portcall.site.folder import this_site


@click.command("keep")
@click.argument("targets", nargs=-1, metavar="TARGET…")
@click.option("--undo", is_flag=True, help="Have them ask by BOOTP or DHCP again instead.")
@click.option("--name", metavar="NAME", help="Give the device this name, too.")
@click.option("--force", is_flag=True, help="Set a device even when it is controlling something.")
@group_option
@adapter_option
@capture_option
@json_option
def keep_command(
    targets: tuple[str, ...],
    undo: bool,
    name: str | None,
    force: bool,
    group: str | None,
) -> int:
    """Tell devices to keep the address they have, also when the power was off.

    TARGET is a planned name, a MAC or an address. By CIP a device takes the address it was given as
    its own; by DCP its planned address and station name are set for good. Each is read back. Ends
    with 0 when every device keeps its address.

    \b
    portcall keep fan-drive-1 10.61.20.15
    portcall keep fan-drive-1 --undo
    """
    if name is not None and (len(targets) > 1 or group or undo):
        raise BadInput("--name is for one TARGET, and not for --undo")
    site = this_site()
    plan = site.plan()
    if targets or not group:
        targets = targets_meant(targets, site, plan, By.DEVICE)
    targets = with_group(targets, group, plan)
    meant = [parse_device(text, plan) for text in dict.fromkeys(targets)]
    adapter = chosen_adapter(first_address(meant))
    shown = OutcomeView("kept", lambda which: "asks again" if undo else "keeps its address")
    good = keep_each(
        adapter, site, plan, meant, shown.ended, note, undo=undo, name=name, force=force
    )
    shown.finish(adapter.name)
    return YES if good else NO
