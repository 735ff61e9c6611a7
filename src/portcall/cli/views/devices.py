"""How found devices are shown: as a table, as CSV, as JSON."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from functools import partial
from ipaddress import IPv4Interface, IPv4Network

import click
from rich.segment import Segments
from rich.text import Text

from portcall.cli.main import INTERRUPTED, NOT_POSSIBLE
from portcall.cli.say import note
from portcall.cli.table import (
    Columns,
    Group,
    Remark,
    Tone,
    cell,
    console,
    drawn,
    left_out_sentence,
    print_groups,
    print_lines,
    remark_of,
)
from portcall.core.address import AddressRange
from portcall.core.counted import counted, named
from portcall.core.csv_text import csv_line
from portcall.core.find import remarks as about
from portcall.core.find import sentences as say
from portcall.core.find.device import Device
from portcall.core.find.devices import Gathering
from portcall.core.find.inside.belonging import Belonging
from portcall.core.find.overview import (
    Neighbourhood,
    Scene,
    faults,
    neighbourhoods,
    next_steps,
)
from portcall.core.find.sighting import Field, Method
from portcall.core.finding import Finding, Line, as_json, values_as_json
from portcall.core.printable import for_spreadsheets
from portcall.jobs.look.findings import NotRun
from portcall.jobs.look.looked import Looked
from portcall.site.folder import Site

_MOST_ADDRESSES_SHOWN = 2

CSV_COLUMNS = (
    *("address", "mac", "name", "maker", "product", "kind", "serial", "firmware"),
    *("mask", "gateway", "place", "description", "ports", "methods", "remarks"),
)
"""For whom the plant is built: what the devices are, and no line to type."""

_FIELDS = CSV_COLUMNS[2:12]


class Found:
    """Devices, what is to be remarked about each of them, and what they come to together."""

    def __init__(
        self,
        gathering: Gathering,
        own: Sequence[IPv4Interface] | None,
        site: Site,
        unsearched: Collection[IPv4Network] = (),
        asked: Sequence[AddressRange] = (),
        singly: Collection[IPv4Network] = (),
    ) -> None:
        self.scene = Scene(gathering.devices(), own, gathering.plan, site.subnets, asked)
        near = neighbourhoods(self.scene)
        self.devices = tuple(device for each in near for device in each.devices)
        """In the order in which they are shown: the first has the number 1."""
        self.defaults = (*site.maker_defaults, *gathering.catalog.defaults)
        self.singly = sorted(singly)
        """Subnets in which single addresses were asked for only."""
        self.starting = frozenset(site.starting)
        self._belonging = Belonging(self.devices)
        self.incomplete = tuple(_incomplete(gathering.is_full, unsearched))

    def next_steps(self) -> tuple[Finding, ...]:
        """The next steps, each with the line to type."""
        if not self.singly:
            return next_steps(self.scene)
        line = Line("find", *self.singly)
        return *next_steps(self.scene), say.ASKED_SINGLY(line, networks=self.singly)

    def remarks(self, device: Device) -> tuple[Finding, ...]:
        """All remarks about one device."""
        return tuple(remark.whole for remark in self._remarks(device))

    def alone(self, device: Device) -> tuple[Finding, ...]:
        """The remarks that are true of this device alone; others are printed once for all."""
        return tuple(remark.alone for remark in self._remarks(device) if remark.alone)

    def _remarks(self, device: Device) -> tuple[about.Remark, ...]:
        scene = self.scene
        told = about.remarks(
            device,
            scene.own,
            scene.plan,
            self.defaults,
            scene.present,
            scene.crowd,
            scene.asked_for,
            self.starting,
        )
        return (*told, *self._belonging.remarks(device))


def _incomplete(is_full: bool, unsearched: Collection[IPv4Network]) -> Iterator[Finding]:
    """The known gaps of a list."""
    if is_full:
        yield say.TOO_MANY()
    if unsearched:
        networks = sorted(unsearched)
        line = Line("find", *networks)
        yield say.UNSEARCHED(line, networks=networks, several=len(networks) > 1)


def print_found(found: Found, wide: bool = False, numbered: bool = False) -> None:
    """Print the faults, the devices by subnet, and the next steps."""
    print_lines(remark_of(gap, Tone.TO_DO, "! ") for gap in found.incomplete)
    print_lines(remark_of(fault, Tone.BROKEN, "! ") for fault in faults(found.scene))
    groups = [Group(each.devices, _heading(each)) for each in neighbourhoods(found.scene)]
    marks_own = bool(found.scene.plan.devices)
    if numbered:
        numbers = {id(device): number for number, device in enumerate(found.devices, 1)}
        cells: Callable[[Device], Sequence[Text]] = partial(_numbered_cells, numbers, marks_own)
    else:
        cells = partial(_cells, marks_own=marks_own)
    left_out = print_groups(_layout(numbered), groups, cells, partial(_below, found), wide)
    if marks_own and any(map(_is_own, found.devices)):
        note("names in parentheses are the devices' own, and not the plan's")
    steps = found.next_steps()
    if steps:
        console().print(Text("next", "bold"))
        print_lines(remark_of(step, mark=f"{MARK} ") for step in steps)
    if left_out:
        note(left_out_sentence(left_out, ", and --csv"))


MARK = "-"
"""Before each thing that is to be done."""


def _below(found: Found, device: Device) -> Sequence[Remark]:
    alone = found.alone(device)
    return (Remark("; ".join(each.sentence for each in alone)),) if alone else ()


def _heading(each: Neighbourhood) -> Text:
    devices = counted(len(each.devices), "device")
    if each.network is None:
        return Text(f"without an address: {devices}", "bold")
    mask = ", mask assumed" if each.assumed else ""
    here = {True: "", False: ", this computer is not in it", None: ""}[each.here]
    return Text(f"{each.network}{mask}: {devices}{here}", "bold")


def rows_of(devices: Sequence[Device]) -> Segments:
    """The same rows, to be redrawn in place."""
    return drawn(_layout(), devices, _cells)


def _layout(numbered: bool = False) -> Columns:
    return Columns(
        *(("row",) if numbered else ()),
        "address",
        "mac",
        "name",
        "what",
        "maker",
        "serial",
        "firmware",
        "kind",
        "ports",
        "place",
        drops=("serial", "firmware", "maker", "kind", "ports", "place"),
        shrinks="what",
    )


def _cells(device: Device, marks_own: bool = False) -> Sequence[Text]:
    ports = " ".join(str(door.port) for door in device.doors)
    return (
        cell(addresses(device), "bold"),
        cell(device.mac),
        cell(_name(device, marks_own)),
        cell(_product(device)),
        cell(device.value(Field.MAKER)),
        cell(device.value(Field.SERIAL)),
        cell(device.value(Field.FIRMWARE)),
        cell(device.value(Field.KIND)),
        cell(ports),
        cell(device.value(Field.PLACE)),
    )


def _numbered_cells(numbers: Mapping[int, int], marks_own: bool, device: Device) -> Sequence[Text]:
    return (cell(str(numbers[id(device)]), "bright_black"), *_cells(device, marks_own))


def _name(device: Device, marks_own: bool) -> str | None:
    """Its name; where there is a plan, one that is not from there in parentheses."""
    name = device.value(Field.NAME)
    return f"({name})" if marks_own and _is_own(device) else name


def _is_own(device: Device) -> bool:
    return device.says(Field.NAME) not in (None, Method.PLAN)


def addresses(device: Device) -> str:
    """Its addresses in one cell."""
    shown = [str(address) for address in (*device.addresses, *device.ipv6)]
    if device.addresses and len(shown) > len(device.addresses):
        shown = shown[: len(device.addresses)]
    return named(shown, _MOST_ADDRESSES_SHOWN)


def _product(device: Device) -> str:
    """The product of a device, without its maker."""
    fields = (field for field in what_fields(device) if field is not Field.MAKER)
    return ", ".join(device.value(field) or "" for field in fields)


def what(device: Device) -> str:
    """Maker and product in one cell; failing that, how it describes itself."""
    return ", ".join(device.value(field) or "" for field in what_fields(device))


def what_fields(device: Device) -> tuple[Field, ...]:
    """The fields of a device that say what it is, and have a value."""
    choices = (Field.PRODUCT, Field.KIND, Field.DESCRIPTION)
    said = next((field for field in choices if device.value(field)), None)
    return tuple(field for field in (Field.MAKER, said) if field and device.value(field))


def summary(found: Found) -> dict[str, object]:
    """The gaps, the faults and the next steps, as ``find --json`` has them."""
    return {
        "incomplete": [str(gap) for gap in found.incomplete],
        "faults": [str(fault) for fault in faults(found.scene)],
        "codes": [as_json(each) for each in (*found.incomplete, *faults(found.scene))],
        "next": [_step(step) for step in found.next_steps()],
    }


def _step(step: Finding) -> dict[str, object]:
    line = str(step.line) if step.line is not None else None
    return {"what": step.sentence, "line": line, "code": step.code, "values": values_as_json(step)}


def print_csv(found: Found) -> None:
    """One line a device, under a header."""
    click.echo(csv_line(CSV_COLUMNS), nl=False)
    for device in found.devices:
        values = (
            " ".join(str(address) for address in (*device.addresses, *device.ipv6)),
            str(device.mac or ""),
            *(device.value(Field(name)) or "" for name in _FIELDS),
            "; ".join(map(str, device.doors)),
            " ".join(device.methods),
            "; ".join(remark.sentence for remark in found.remarks(device)),
        )
        click.echo(csv_line([for_spreadsheets(value) for value in values]), nl=False)


def not_run_lines(not_run: Sequence[NotRun]) -> list[str]:
    """The methods that could not run, a line for each reason."""
    reasons: dict[str, list[str]] = {}
    for each in not_run:
        reasons.setdefault(each.reason, []).append(each.method)
    return [f"not run: {', '.join(methods)}: {reason}" for reason, methods in reasons.items()]


def ending(looked: Looked, otherwise: int) -> int:
    """The exit code of a command that shows what was found, however far the look came."""
    if looked.interrupted:
        return INTERRUPTED
    if looked.look.asked_nothing or not looked.cable.has_link:
        return NOT_POSSIBLE
    return otherwise
