"""``portcall find``."""

from __future__ import annotations

import asyncio
from collections.abc import Sequence

import click

from portcall.cli.main import NO, YES
from portcall.cli.say import json_option, note, print_json
from portcall.cli.show import Columns, cell, print_with_notes
from portcall.cli.workplace import (
    adapter_option,
    chosen_adapter,
    parse_targets,
    plan_if_sound,
    this_site,
    usual_ranges,
)
from portcall.core.find.devices import Device, merge
from portcall.core.find.remarks import remarks
from portcall.core.find.sighting import Field, Method
from portcall.core.pacer import HIGHEST_PACE
from portcall.host.jobs.look import WIRE_METHODS, look
from portcall.site.makers import maker_lookup


@click.command("find")
@click.argument("ranges", nargs=-1, metavar="[RANGE]…")
@click.option(
    "--method",
    "methods",
    multiple=True,
    type=click.Choice([method.value for method in WIRE_METHODS]),
    help="Only this way of finding; may be repeated.",
)
@click.option(
    "--pace",
    type=click.FloatRange(0, HIGHEST_PACE, min_open=True),
    help="Packets a second; the site's, or 200.",
)
@adapter_option
@json_option
def find_command(
    ranges: tuple[str, ...],
    methods: tuple[str, ...],
    pace: float | None,
    adapter_name: str | None,
    as_json: bool,
) -> int:
    """Find and identify the devices on the wire.

    RANGE is a subnet (10.61.20.0/24), a range (10.61.20.5-40) or an address. Without one: the
    adapter's subnets, the site's, and the makers' default addresses the site names. This computer
    need not be in any of them.
    """
    site = this_site()
    plan = plan_if_sound(site)
    named = parse_targets(ranges, plan)
    adapter = chosen_adapter(adapter_name)
    where = named or usual_ranges(adapter, site, plan)
    wanted = [Method(method) for method in methods] or WIRE_METHODS
    seen = asyncio.run(look(adapter, where, pace or site.pace, wanted))
    devices = merge(seen.sightings, maker_lookup(site.makers), plan)
    present = {device.mac for device in devices if device.mac is not None}
    noted = [
        remarks(device, adapter.interfaces, plan, site.maker_defaults, present)
        for device in devices
    ]
    if as_json:
        entries = [device_document(d, r) for d, r in zip(devices, noted, strict=True)]
        not_run = [{"method": each.method, "reason": each.reason} for each in seen.not_run]
        print_json({"adapter": adapter.name, "devices": entries, "not_run": not_run})
        return YES if devices else NO
    if devices:
        _print_table(devices, noted)
    plural = "device" if len(devices) == 1 else "devices"
    note(f"{len(devices) or 'no'} {plural} on {adapter.name}")
    if not devices:
        note("nothing was heard: is this the right adapter, and has the plant power?")
    for each in seen.not_run:
        note(f"not run: {each.method}: {each.reason}")
    return YES if devices else NO


def _print_table(devices: Sequence[Device], noted: Sequence[Sequence[str]]) -> None:
    shown = Columns(
        "address",
        "mac",
        "name",
        "what",
        "serial",
        "kind",
        "firmware",
        drops=("serial", "firmware", "kind"),
        shrinks="what",
    )
    for device in devices:
        shown.add_row(
            cell(", ".join(str(address) for address in device.addresses), "bold"),
            cell(device.mac),
            cell(device.value(Field.NAME)),
            cell(what(device)),
            cell(device.value(Field.SERIAL)),
            cell(device.value(Field.KIND)),
            cell(device.value(Field.FIRMWARE)),
        )
    print_with_notes(shown, noted)


def what(device: Device) -> str:
    """Maker and product in one cell."""
    parts = (device.value(Field.MAKER), device.value(Field.PRODUCT) or device.value(Field.KIND))
    return ", ".join(part for part in parts if part)


def device_document(device: Device, lines: tuple[str, ...]) -> dict[str, object]:
    """A device as ``find --json`` has it."""
    values = {field.value: device.value(field) for field in Field}
    return {
        "mac": str(device.mac) if device.mac else None,
        "addresses": [str(address) for address in device.addresses],
        **values,
        "methods": list(device.methods),
        "remarks": list(lines),
    }
