"""``portcall blink``."""

from __future__ import annotations

import click

from portcall.cli.main import NO, YES
from portcall.cli.options import (
    adapter_option,
    capture_option,
    chosen_adapter,
    json_option,
    target_meant,
)
from portcall.cli.say import note, print_json, wants_json
from portcall.core.plan.targets import first_address, parse_device
from portcall.jobs.record.by import By
from portcall.jobs.setting.blink import Blinking, blink
from portcall.site.folder import this_site


@click.command("blink")
@click.argument("target", metavar="TARGET", required=False)
@click.option(
    "--for",
    "seconds",
    default=9.0,
    show_default=True,
    metavar="SECONDS",
    type=click.FloatRange(1, 3600),
    help="How long.",
)
@adapter_option
@capture_option
@json_option
def blink_command(target: str | None, seconds: float) -> int:
    """Have the device TARGET flash its lamp, so that a person finds it in the cabinet.

    TARGET is a planned name, a MAC or an address. DCP has a signal for this, and no other protocol
    here does. Nothing is changed in the device.

    \b
    portcall blink io-island-1
    portcall blink 02-77-B1-90-00-3D
    """
    site = this_site()
    plan = site.plan()
    meant = parse_device(target_meant(target, site, plan, By.DEVICE), plan)
    adapter = chosen_adapter(first_address([meant]))

    def begins(fact: object) -> None:
        if not wants_json() or not isinstance(fact, Blinking):
            note(fact)

    found, reason = blink(adapter, site, plan, meant, seconds, begins)
    if wants_json():
        mac = str(found.mac) if found.device else None
        why_not = str(reason) if reason is not None else None
        document = {"name": meant.name, "mac": mac, "shown": reason is None, "reason": why_not}
        document |= {"code": reason.code if reason is not None else None}
        print_json(document)
    else:
        click.echo(
            f"{meant.name}: "
            + ("it confirms that it flashed its lamp" if reason is None else str(reason))
        )
    return YES if reason is None else NO
