"""Reading a plan from CSV, and every rule that its rows have to keep.

Spreadsheet exports are accepted as they come: byte order mark, semicolons or tabs, CRLF, MACs in
any usual notation, masks dotted or as prefix length. All broken rules are found in one reading. A
plan that breaks one is no plan: nothing of it is used.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from ipaddress import IPv4Address, IPv4Interface
from typing import TypeVar

from portcall.core.address import (
    AddressError,
    assumed_prefix,
    check_device_address,
    check_host,
    parse_address,
    parse_mac,
    parse_mask,
)
from portcall.core.circuit import circuit_words, parse_circuit
from portcall.core.csv_text import BrokenLine, TableLine, delimiter_in, lines_in, lines_of
from portcall.core.finding import Name
from portcall.core.part_path import PartKind, PartPath, parse_path
from portcall.core.plan.columns import COLUMNS, IDENTITY, INSIDE, STARTING
from portcall.core.plan.expected import Expected, parse_firmware
from portcall.core.plan.inside import NO_INTERFACE, is_same_device, with_parts
from portcall.core.plan.rows import (
    NOBODY,
    Plan,
    PlannedDevice,
    Subnet,
    gateway_for,
    prefix_for,
)
from portcall.core.plan.slips import slip
from portcall.core.plan.text import decode
from portcall.core.printable import from_spreadsheets, printable
from portcall.core.trouble import BadInput

REQUIRED = ("name", "address")
_HEADING = ",".join(STARTING)
WHOLE = 0
"""The line of what is wrong with a file as a whole."""
_WORDS = ("group", "kind", "place", "note")
LONGEST_NAME = 63

T = TypeVar("T")


@dataclass(frozen=True, slots=True)
class Problem:
    """One broken rule: where, what stands there, and what is wrong with it."""

    line: int
    column: str | None
    text: str

    def __str__(self) -> str:
        place = f" line {self.line}" if self.line else ""
        return f"{place}{f', column {self.column}' if self.column else ''}: {self.text}"


class PlanError(BadInput):
    """A plan that breaks rules; ``problems`` has all of them."""

    def __init__(self, source: str, problems: Sequence[Problem]) -> None:
        super().__init__("\n".join(f"{source}{problem}" for problem in problems))
        self.problems = tuple(problems)


def parse_plan(data: bytes, source: str, subnets: Sequence[Subnet] = ()) -> Plan:
    """Read a plan from the bytes of a CSV file; ``source`` names it in messages.

    ``subnets`` are the site's: they give mask and gateway where a row has none.
    Raises PlanError with every rule broken.
    """
    reading = _Reading(subnets)
    return reading.sound(reading.read(data), source)


def read_lines(lines: Sequence[TableLine], source: str, subnets: Sequence[Subnet] = ()) -> Plan:
    """As ``parse_plan``, from lines of which the first is the heading, with our names in it."""
    reading = _Reading(subnets)
    return reading.sound(reading.take(lines), source)


MOST_PROBLEMS = 1000
"""Mistakes after which no more are looked for: such a file is another one than was meant."""


class _Reading:
    """One pass over a file, gathering every problem."""

    def __init__(self, subnets: Sequence[Subnet]) -> None:
        self.subnets = subnets
        self.problems: list[Problem] = []
        self._seen: dict[tuple[str, object], PlannedDevice] = {}
        self._inside: list[PlannedDevice] = []
        """Parts without an address of their own."""
        self._has_parts = False
        """Whether the heading has both columns of parts: others use the word for an article."""

    def sound(self, plan: Plan, source: str) -> Plan:
        """The plan, if no rule is broken. Raises PlanError."""
        if self.problems:
            raise PlanError(source, sorted(self.problems, key=lambda problem: problem.line))
        return plan

    def read(self, data: bytes) -> Plan:
        try:
            text, _ = decode(data)
        except BadInput as trouble:
            self._problem(WHOLE, None, str(trouble))
            return Plan()
        lines = lines_in(text)
        try:
            return self.take(list(lines_of(lines, *delimiter_in(lines))))
        except BrokenLine as trouble:
            self._problem(trouble.number, None, str(trouble))
            return Plan()

    def take(self, lines: Sequence[TableLine]) -> Plan:
        """The plan of some lines, of which the first is the heading."""
        if not lines:
            self._problem(WHOLE, None, f"is empty; a plan starts with the line {_HEADING}")
            return Plan()
        heading, *rest = lines
        names = self._header(heading.cells, heading.number)
        self._has_parts = set(INSIDE) <= set(names)
        devices: list[PlannedDevice] = []
        for line in rest:
            if len(self.problems) >= MOST_PROBLEMS:
                more = f"and what is below was not looked at: {MOST_PROBLEMS} mistakes are enough"
                self._problem(line.number, None, more)
                break
            row = self._row(names, line.cells, line.number)
            if row:
                devices.append(row)
        return with_parts(devices, self._inside, tuple(names), self._problem)

    def _problem(self, line: int, column: str | None, text: str) -> None:
        self.problems.append(Problem(line, column, text))

    def _header(self, cells: list[str], line: int) -> list[str]:
        names = [cell.strip().lower() for cell in cells]
        found = printable(", ".join(name for name in names if name))
        for name in REQUIRED:
            if name not in names:
                self._problem(
                    line, name, f"is missing; the header has {found}; it needs name and address"
                )
        for name in COLUMNS:
            if names.count(name) > 1:
                self._problem(line, name, "is twice in the header; remove one")
        return names

    def _row(self, names: list[str], cells: list[str], line: int) -> PlannedDevice | None:
        found_before = len(self.problems)
        if len(cells) > len(names) and any(cell.strip() for cell in cells[len(names) :]):
            extra = printable(next(cell for cell in cells[len(names) :] if cell.strip()))
            self._problem(
                line,
                None,
                f"has {len(cells)} cells, the header {len(names)}; {extra!r} is one cell too many",
            )
        told = (from_spreadsheets(cell.strip()) for cell in cells)
        cell = dict(zip(names, told, strict=False))
        # A column that the heading lacks is reported once, and not again in every row.
        name = self._name(cell.get("name", ""), line) if "name" in names else None
        mac = self._value("mac", cell, line, parse_mac)
        circuit = self._value("circuit", cell, line, parse_circuit) or b""
        if mac and circuit:
            self._problem(
                line, "circuit", "is there beside a MAC; a row has a MAC or a circuit, not both"
            )
        address = self._value("address", cell, line, parse_address)
        prefix = self._value("mask", cell, line, parse_mask)
        gateway = self._value("gateway", cell, line, parse_address)
        firmware = self._value("firmware", cell, line, parse_firmware)
        of, part = self._part(cell, line)
        needs_none = of and part is not None and part.kind is not PartKind.PORT
        if "address" in names and not cell.get("address") and not needs_none:
            self._problem(line, "address", "is empty; every row needs an address")
        if name is None or len(self.problems) > found_before or not (address or needs_none):
            self._check_alone(address, line, found_before)
            return None
        assumed = False
        if prefix is None and address is not None:
            prefix = prefix_for(address, self.subnets)
            assumed = prefix is None
        interface = NO_INTERFACE
        if address is not None:
            interface = IPv4Interface((address, prefix or assumed_prefix(address)))
        known = ("", *COLUMNS) if self._has_parts else ("", *set(COLUMNS) - set(INSIDE))
        said = {column: printable(cell.get(column, "")) for column in (*IDENTITY, *_WORDS)}
        device = PlannedDevice(
            name,
            interface,
            mac,
            gateway or gateway_for(interface, self.subnets),
            mask_assumed=assumed,
            line=line,
            circuit=circuit,
            expected=Expected(said["maker"], said["product"], said["serial"], firmware),
            extra=tuple((key, printable(value)) for key, value in cell.items() if key not in known),
            of=of,
            part=part,
            group=said["group"],
            kind=said["kind"],
            place=said["place"],
            note=said["note"],
        )
        if address is None:
            self._check_once(device, ("name",))
            self._inside.append(device)
            return None
        self._check_rules(device)
        return device

    def _part(self, cell: dict[str, str], line: int) -> tuple[Name, PartPath | None]:
        """Of which row this is a part, and which; neither for a device."""
        if not self._has_parts:
            return NOBODY, None
        of = Name(printable(cell.get("of", "")))
        part = self._value("part", cell, line, parse_path)
        if bool(of) != bool(cell.get("part")):
            missing = "part" if of else "of"
            self._problem(line, missing, "is empty; a part needs both of and part")
        return of, part

    def _name(self, text: str, line: int) -> Name | None:
        if not text:
            self._problem(line, "name", "is empty; every row needs a name")
        elif text != printable(text) or len(text) > LONGEST_NAME:
            self._problem(
                line,
                "name",
                f"{printable(text, 40)!r} has characters that cannot be shown, doubled spaces or "
                f"over {LONGEST_NAME} characters",
            )
        elif (slipped := slip("name", text)) is not None:
            self._problem(line, "name", slipped)
        elif text.replace(".", "").replace("/", "").isdigit():
            self._problem(line, "name", f"{text!r} would be taken for an address; add a letter")
        else:
            return Name(text)
        return None

    def _value(
        self, column: str, cell: dict[str, str], line: int, parse: Callable[[str], T]
    ) -> T | None:
        text = cell.get(column, "")
        if not text:
            return None
        try:
            return parse(printable(text))
        except BadInput as error:
            self._problem(line, column, slip(column, printable(text)) or str(error))
            return None

    def _check_alone(self, address: IPv4Address | None, line: int, found_before: int) -> None:
        """Check an address when the rest of its row cannot be used."""
        if address is None or any(p.column == "address" for p in self.problems[found_before:]):
            return
        try:
            check_device_address(address)
        except AddressError as error:
            self._problem(line, "address", str(error))

    def _check_rules(self, device: PlannedDevice) -> None:
        try:
            check_host(device.interface)
        except AddressError as error:
            self._problem(device.line, "address", str(error))
        gateway, network = device.gateway, device.interface.network
        if gateway is not None:
            if gateway not in network:
                self._problem(
                    device.line,
                    "gateway",
                    f"{gateway}: is outside {network}, where {device.name} would look for it",
                )
            elif gateway == device.address:
                self._problem(device.line, "gateway", f"{gateway}: is the device's own address")
            elif gateway in (network.network_address, network.broadcast_address):
                self._problem(
                    device.line, "gateway", f"{gateway}: is the network or broadcast number"
                )
        self._check_once(device, ("name", "address", "mac", "circuit"))

    def _check_once(self, device: PlannedDevice, columns: Sequence[str]) -> None:
        """Check that no other row has the same; an address two parts of a device may share."""
        for column, value in (
            ("name", device.name.casefold()),
            ("address", device.address),
            ("mac", device.mac),
            ("circuit", device.circuit or None),
        ):
            if value is None or column not in columns:
                continue
            first = self._seen.setdefault((column, value), device)
            if first is not device and not (column == "address" and is_same_device(first, device)):
                words = {"name": device.name, "circuit": circuit_words(device.circuit)}
                shown = words.get(column) or str(value)
                self._problem(
                    device.line, column, f"{shown}: is on line {first.line} too ({first.name})"
                )
