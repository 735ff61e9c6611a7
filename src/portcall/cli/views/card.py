"""One device as a card: all that is known of it, who said so, and how long ago."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import NamedTuple

import click
from rich.text import Text

from portcall.cli.say import ago, moment_words
from portcall.cli.table import (
    Columns,
    Remark,
    Tone,
    cell,
    console,
    print_lines,
    print_rows,
    remark_of,
)
from portcall.cli.views.devices import Found, addresses
from portcall.core.find import sentences as say
from portcall.core.find.device import Device
from portcall.core.find.protocols import PROTOCOLS, TRUST
from portcall.core.find.sighting import Field, Method
from portcall.core.finding import Finding
from portcall.core.record.notes import Note


class _Line(NamedTuple):
    what: str
    value: str
    by: str
    age: str | None


def print_cards(
    found: Found,
    devices: Sequence[Device],
    now: float,
    notes_about: Callable[[Device], Sequence[Note]],
) -> None:
    """The devices that were asked for, and how many others were heard."""
    for device in devices:
        name = device.value(Field.NAME)
        heading = "  ".join(filter(None, (name, addresses(device), str(device.mac or ""))))
        console().print(Text(heading, "bold"), soft_wrap=True)
        lines = _lines(device, now)
        if lines:
            columns = Columns(
                "what", "value", "said by", "heard", drops=("heard",), shrinks="value"
            )
            print_rows(columns, lines, _cells)
        _print_values(device)
        _print_noted(found, device, notes_about(device))
        told = [remark_of(each, Tone.TO_DO) for each in found.remarks(device)]
        print_lines(told or [Remark("nothing about it needs attention", Tone.DONE)])
    others = len(found.devices) - len(devices)
    if others:
        count = "1 other device was" if others == 1 else f"{others} other devices were"
        click.echo(f"{count} heard meanwhile: portcall find lists them")


def _print_noted(found: Found, device: Device, notes: Sequence[Note]) -> None:
    """What people wrote: in the plan's further columns, and as notes."""
    row = found.scene.row_of(device)
    if row is not None:
        of_plan = {"note": row.note, **dict(row.extra)}
        for column, text in of_plan.items():
            if text:
                click.echo(f"in the plan, {column}: {text}")
    for each in notes:
        entry = each.entry
        about = f", {entry.name}" if row is not None and entry.name != row.name else ""
        files = ", ".join(file.name for file in each.files)
        told = "; ".join(filter(None, (each.text, files)))
        by = f" {entry.person}" if entry.person else ""
        click.echo(f"note of {moment_words(entry.at)}{by}{about}: {told}")


def _print_values(device: Device) -> None:
    """What is typed about it into an engineering program, to be copied from here."""
    by_dcp = (s.value for s in device.said if (s.field, s.method) == (Field.NAME, Method.DCP))
    manners = (each for each in device.values(Field.MANNER) if isinstance(each, Finding))
    units = (each.values["unit"] for each in manners if each.kind is say.MODBUS_AS_UNIT)
    known = {
        "address": device.addresses[0] if device.addresses else None,
        "mask": device.mask,
        "gateway": device.gateway,
        "station name": next(by_dcp, None),
        "Modbus unit": next(units, None),
    }
    told = {what: value for what, value in known.items() if value is not None}
    if len(told) > 1:
        click.echo("to type in your engineering program:")
        for what, value in told.items():
            click.echo(f"    {what:<14}{value}")


def _lines(device: Device, now: float) -> list[_Line]:
    order = list(Field)
    said = sorted(
        device.said.items(), key=lambda item: (order.index(item[0].field), _rank(item[0].method))
    )
    return [
        _Line(
            each.field,
            str(each.value),
            PROTOCOLS[each.method].shown,
            None if each.method.is_list else ago(now - at),
        )
        for each, at in said
        if each.field not in (Field.MANNER, Field.EITHER)
    ]


def _rank(method: Method) -> int:
    return TRUST.index(method)


def _cells(line: _Line) -> Sequence[Text]:
    return [cell(line.what, "bold"), cell(line.value), cell(line.by), cell(line.age)]
