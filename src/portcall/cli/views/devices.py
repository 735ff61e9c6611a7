"""How found devices are shown: as a table, as CSV, as JSON."""

from __future__ import annotations

import csv
import io
from collections.abc import Sequence
from ipaddress import IPv4Interface

import click
from rich.text import Text

from portcall.cli.main import INTERRUPTED, NOT_POSSIBLE
from portcall.cli.table import INDENT, Columns, cell, console, print_rows
from portcall.core.address import AddressRange
from portcall.core.find.device import Device
from portcall.core.find.devices import Gathering
from portcall.core.find.remarks import remarks
from portcall.core.find.sighting import Field
from portcall.core.plan.near import NearMisses
from portcall.core.printable import for_spreadsheets
from portcall.jobs.look.findings import NotRun
from portcall.jobs.look.looked import Looked

_MOST_ADDRESSES_SHOWN = 2

CSV_COLUMNS = (
    "address",
    "mac",
    "name",
    "maker",
    "product",
    "kind",
    "serial",
    "firmware",
    "place",
    "description",
    "ports",
    "methods",
    "remarks",
)


class Found:
    """Devices, and what is to be remarked about each of them."""

    def __init__(
        self,
        gathering: Gathering,
        own: Sequence[IPv4Interface] | None,
        maker_defaults: Sequence[AddressRange],
    ) -> None:
        self.devices = gathering.devices()
        self._plan = gathering.plan
        self._own = own
        self._defaults = (*maker_defaults, *gathering.catalog.defaults)
        self.is_incomplete = gathering.is_full
        self._present = {device.mac for device in self.devices if device.mac is not None}
        self._crowd = NearMisses(gathering.plan).crowd(self._present)

    def remarks(self, device: Device) -> tuple[str, ...]:
        """The sentences about one device."""
        return remarks(device, self._own, self._plan, self._defaults, self._present, self._crowd)


def print_table(found: Found) -> None:
    """Sorted by address as numbers; what identifies a device fits in 100 characters."""
    print_rows(_layout(), found.devices, _cells, lambda device: _joined(found.remarks(device)))


def _joined(lines: Sequence[str]) -> Sequence[str]:
    """All remarks in one line where they fit; otherwise each command line has a line of its own."""
    commands = [line for line in lines if "portcall " in line]
    ordered = [line for line in lines if line not in commands] + commands
    whole = "; ".join(ordered)
    if not ordered or len(whole) <= console().width - INDENT:
        return (whole,) if ordered else ()
    return ("; ".join(line for line in ordered if line not in commands), *commands)


def _layout() -> Columns:
    return Columns(
        "address",
        "mac",
        "name",
        "what",
        "serial",
        "firmware",
        "kind",
        "ports",
        "place",
        drops=("serial", "firmware", "kind", "ports", "place"),
        shrinks="what",
    )


def _cells(device: Device) -> Sequence[Text]:
    ports = " ".join(port.split(" ")[0] for port in device.ports)
    return (
        cell(addresses(device), "bold"),
        cell(device.mac),
        cell(device.value(Field.NAME)),
        cell(what(device)),
        cell(device.value(Field.SERIAL)),
        cell(device.value(Field.FIRMWARE)),
        cell(device.value(Field.KIND)),
        cell(ports),
        cell(device.value(Field.PLACE)),
    )


def addresses(device: Device) -> str:
    """Its addresses in one cell."""
    shown = [str(address) for address in (*device.addresses, *device.ipv6)]
    if device.addresses and len(shown) > len(device.addresses):
        shown = shown[: len(device.addresses)]
    more = len(shown) - _MOST_ADDRESSES_SHOWN
    listed = ", ".join(shown[:_MOST_ADDRESSES_SHOWN])
    return f"{listed} and {more} more" if more > 0 else listed


def what(device: Device) -> str:
    """Maker and product in one cell; failing that, how it describes itself."""
    return ", ".join(device.value(field) or "" for field in what_fields(device))


def what_fields(device: Device) -> tuple[Field, ...]:
    """The fields of a device that say what it is, and have a value."""
    choices = (Field.PRODUCT, Field.KIND, Field.DESCRIPTION)
    said = next((field for field in choices if device.value(field)), None)
    return tuple(field for field in (Field.MAKER, said) if field and device.value(field))


def document(device: Device, lines: Sequence[str]) -> dict[str, object]:
    """A device as ``find --json`` has it."""
    single = (field for field in Field if field not in (Field.PORT, Field.MANNER))
    return {
        "mac": str(device.mac) if device.mac else None,
        "addresses": [str(address) for address in (*device.addresses, *device.ipv6)],
        **{field.value: device.value(field) for field in single},
        "ports": list(device.ports),
        "said": [
            {"what": said.field, "value": said.value, "by": said.method} for said in device.said
        ],
        "methods": list(device.methods),
        "remarks": list(lines),
    }


def print_csv(found: Found) -> None:
    """One line a device, under a header."""
    click.echo(_csv_line(CSV_COLUMNS), nl=False)
    for device in found.devices:
        values = (
            " ".join(str(address) for address in (*device.addresses, *device.ipv6)),
            str(device.mac or ""),
            *(device.value(Field(name)) or "" for name in CSV_COLUMNS[2:10]),
            "; ".join(device.ports),
            " ".join(device.methods),
            "; ".join(found.remarks(device)),
        )
        click.echo(_csv_line([for_spreadsheets(value) for value in values]), nl=False)


def _csv_line(values: Sequence[str]) -> str:
    line = io.StringIO()
    csv.writer(line, lineterminator="\n").writerow(values)
    return line.getvalue()


def not_run_lines(not_run: Sequence[NotRun]) -> list[str]:
    """What could not run, a line for each reason."""
    reasons: dict[str, list[str]] = {}
    for each in not_run:
        reasons.setdefault(each.reason, []).append(each.method)
    return [f"not run: {', '.join(methods)}: {reason}" for reason, methods in reasons.items()]


def ending(looked: Looked, otherwise: int) -> int:
    """The exit code of a command that shows what was found, however far the look came."""
    if looked.interrupted:
        return INTERRUPTED
    return otherwise if looked.cable.has_link else NOT_POSSIBLE
