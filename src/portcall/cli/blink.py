"""``portcall blink``."""

from __future__ import annotations

import asyncio

import click

from portcall.cli.main import NO, YES
from portcall.cli.say import json_option, note, print_json
from portcall.cli.targets import locate, parse_device
from portcall.cli.workplace import (
    adapter_option,
    capture_option,
    chosen_adapter,
    record,
    this_site,
)
from portcall.core.address import Mac
from portcall.core.find.sighting import Method
from portcall.core.wire import dcp
from portcall.host.jobs.settings import set_by_dcp
from portcall.host.privilege import Privilege, require

_FLASH = 3.0
"""Seconds that one signal lasts (IEC 61158-6-10, SignalValue)."""


@click.command("blink")
@click.argument("target", metavar="TARGET")
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
def blink_command(
    target: str, seconds: float, adapter_name: str | None, capture: str | None, as_json: bool
) -> int:
    """Have the device TARGET flash its lamp, so that a person finds it in the cabinet.

    TARGET is a planned name, a MAC or an address. DCP has a signal for this, and no other protocol
    here does. Nothing is changed in the device.
    """
    site = this_site()
    plan = site.plan()
    meant = parse_device(target, plan)
    adapter = chosen_adapter(adapter_name)
    record(adapter, capture)
    require(Privilege.NET_RAW)
    (found,) = locate(adapter, site, plan, [meant], everywhere=meant.address is None)
    reason = None
    if found.device is None:
        reason = found.reason
    elif Method.DCP not in found.device.methods:
        reason = "it answers no DCP, and only that has a signal to show itself"
    else:
        if not as_json:
            note(f"{meant.name}, {found.mac}, flashes for {seconds:.0f} s; Ctrl-C ends it")
        reason = asyncio.run(_signal(adapter.name, found.mac, seconds))
    if as_json:
        mac = str(found.mac) if found.device else None
        document = {"name": meant.name, "mac": mac, "shown": reason is None, "reason": reason}
        print_json(document)
    else:
        click.echo(
            f"{meant.name}: " + ("it said that it showed itself" if reason is None else reason)
        )
    return YES if reason is None else NO


async def _signal(adapter: str, mac: Mac, seconds: float) -> str | None:
    """Signal again and again; why it does not, or None."""
    for _ in range(max(1, round(seconds / _FLASH))):
        answer = await set_by_dcp(adapter, mac, [dcp.encode_signal_block()])
        if answer.errors is None:
            return "no answer to the signal"
        error = answer.errors.get(dcp.SIGNAL, 0)
        if error:
            return f"it does not show itself: {dcp.error_words(error)}"
        await asyncio.sleep(_FLASH)
    return None
