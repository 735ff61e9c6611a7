"""Reading a plan from CSV, and every rule that its rows have to keep.

Spreadsheet exports are accepted as they come: byte order mark, semicolons or tabs, CRLF, MACs in
any usual notation, masks dotted or as prefix length. All broken rules are found in one reading. A
plan that breaks one is no plan: nothing of it is used.
"""

from __future__ import annotations

import codecs
import csv
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from ipaddress import IPv4Address, IPv4Interface
from typing import NamedTuple, TypeVar

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
from portcall.core.plan.rows import Plan, PlannedDevice, Subnet, gateway_for, prefix_for
from portcall.core.printable import printable
from portcall.core.trouble import BadInput

COLUMNS = ("name", "mac", "circuit", "address", "mask", "gateway", "kind", "place", "note")
REQUIRED = ("name", "address")
LONGEST_NAME = 63
_LARGEST_FILE = 4 * 1024 * 1024

T = TypeVar("T")


@dataclass(frozen=True, slots=True)
class Problem:
    """One broken rule: where, what stands there, and what is wrong with it."""

    line: int
    column: str | None
    text: str

    def __str__(self) -> str:
        place = f"line {self.line}" + (f", column {self.column}" if self.column else "")
        return f"{place}: {self.text}"


class PlanError(BadInput):
    """A plan that breaks rules; ``problems`` has all of them."""

    def __init__(self, source: str, problems: Sequence[Problem]) -> None:
        super().__init__("\n".join(f"{source} {problem}" for problem in problems))
        self.problems = tuple(problems)


def parse_plan(data: bytes, source: str, subnets: Sequence[Subnet] = ()) -> Plan:
    """Read a plan from the bytes of a CSV file; ``source`` names it in messages.

    ``subnets`` are the site's: they give mask and gateway where a row has none.
    Raises PlanError with every rule broken.
    """
    reading = _Reading(subnets)
    plan = reading.read(data)
    if reading.problems:
        problems = sorted(reading.problems, key=lambda problem: problem.line)
        raise PlanError(source, problems)
    return plan


def delimiter_of(header: str) -> str:
    """What separates the cells of a plan: the commonest of comma, semicolon and tab."""
    return max(",;\t", key=header.count)


class Encoding(NamedTuple):
    """How the octets of a file are text: a codec, and the byte order mark before it, if any."""

    codec: str
    mark: bytes = b""

    def decode(self, data: bytes) -> str:
        """The text. Raises UnicodeDecodeError."""
        return data[len(self.mark) :].decode(self.codec, self._errors)

    def encode(self, text: str) -> bytes:
        """The octets of a text that may have been changed. Raises UnicodeEncodeError."""
        return self.mark + text.encode(self.codec, self._errors)

    @property
    def _errors(self) -> str:
        # An octet that the code page does not have comes back as it was (PEP 383).
        return "surrogateescape" if self.codec == _CODE_PAGE else "strict"


_CODE_PAGE = "cp1252"
"""What spreadsheets still export; every file that is not Unicode is taken for it."""

_MARKED = (
    Encoding("utf-8", codecs.BOM_UTF8),
    Encoding("utf-16-le", codecs.BOM_UTF16_LE),
    Encoding("utf-16-be", codecs.BOM_UTF16_BE),
)


def decode(data: bytes) -> tuple[str, Encoding]:
    """The text of a plan's file, and how it is encoded. Raises BadInput when it is no text."""
    if len(data) > _LARGEST_FILE:
        raise BadInput(f"has {len(data)} octets; a plan has at most {_LARGEST_FILE}")
    marked = next((each for each in _MARKED if data.startswith(each.mark)), None)
    control = next((o for o in data if o < 32 and o not in b"\t\r\n"), None)
    if control is not None and (marked is None or marked.codec == "utf-8"):
        raise BadInput(
            f"is not text (it has an octet {control:#04x}); save it from the spreadsheet as "
            "CSV (UTF-8)"
        )
    try:
        encoding = marked or Encoding("utf-8")
        return encoding.decode(data), encoding
    except UnicodeDecodeError:
        if marked is not None and marked.codec != "utf-8":
            raise BadInput("is not text; save it from the spreadsheet as CSV (UTF-8)") from None
    encoding = Encoding(_CODE_PAGE)
    return encoding.decode(data), encoding


class _Reading:
    """One pass over a file, gathering every problem."""

    def __init__(self, subnets: Sequence[Subnet]) -> None:
        self.subnets = subnets
        self.problems: list[Problem] = []
        self._seen: dict[tuple[str, object], PlannedDevice] = {}

    def read(self, data: bytes) -> Plan:
        try:
            text, _ = decode(data)
        except BadInput as trouble:
            self._problem(1, None, str(trouble))
            return Plan()
        lines = text.splitlines(keepends=True)
        head = next((line for line in lines if line.strip()), "")
        rows = csv.reader(lines, delimiter=delimiter_of(head))
        names: list[str] = []
        devices: list[PlannedDevice] = []
        line = 1
        try:
            for cells in rows:
                if any(cell.strip() for cell in cells):
                    if not names:
                        names = self._header(cells, line)
                        if self.problems:
                            return Plan()
                    else:
                        device = self._row(names, cells, line)
                        if device:
                            devices.append(device)
                line = rows.line_num + 1
        except csv.Error as error:
            self._problem(line, None, f"is not CSV: {error}")
        if not devices and not self.problems:
            self._problem(1, None, f"is empty; a plan starts with the line {','.join(COLUMNS)}")
        return Plan(tuple(devices))

    def _problem(self, line: int, column: str | None, text: str) -> None:
        self.problems.append(Problem(line, column, text))

    def _header(self, cells: list[str], line: int) -> list[str]:
        names = [cell.strip().lower() for cell in cells]
        for name in REQUIRED:
            if name not in names:
                found = printable(", ".join(name for name in names if name))
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
        cell = dict(zip(names, (cell.strip() for cell in cells), strict=False))
        name = self._name(cell.get("name", ""), line)
        mac = self._value("mac", cell, line, parse_mac)
        circuit = self._value("circuit", cell, line, parse_circuit) or b""
        if mac and circuit:
            self._problem(
                line, "circuit", "is there beside a MAC; a row has a MAC or a circuit, not both"
            )
        address = self._value("address", cell, line, parse_address)
        prefix = self._value("mask", cell, line, parse_mask)
        gateway = self._value("gateway", cell, line, parse_address)
        if not cell.get("address"):
            self._problem(line, "address", "is empty; every row needs an address")
        if name is None or address is None or len(self.problems) > found_before:
            self._check_alone(address, line, found_before)
            return None
        assumed = False
        if prefix is None:
            prefix = prefix_for(address, self.subnets)
            assumed = prefix is None
        interface = IPv4Interface((address, prefix or assumed_prefix(address)))
        device = PlannedDevice(
            name,
            interface,
            mac,
            gateway or gateway_for(interface, self.subnets),
            printable(cell.get("kind", "")),
            printable(cell.get("place", "")),
            printable(cell.get("note", "")),
            assumed,
            line,
            circuit,
        )
        self._check_rules(device)
        return device

    def _name(self, text: str, line: int) -> str | None:
        if not text:
            self._problem(line, "name", "is empty; every row needs a name")
        elif text != printable(text) or len(text) > LONGEST_NAME:
            self._problem(
                line,
                "name",
                f"{printable(text, 40)!r} has characters that cannot be shown, doubled spaces or "
                f"over {LONGEST_NAME} characters",
            )
        elif text.replace(".", "").replace("/", "").isdigit():
            self._problem(line, "name", f"{text!r} would be taken for an address; add a letter")
        else:
            return text
        return None

    def _value(
        self, column: str, cell: dict[str, str], line: int, parse: Callable[[str], T]
    ) -> T | None:
        text = cell.get(column, "")
        if not text:
            return None
        try:
            return parse(printable(text))
        except AddressError as error:
            self._problem(line, column, str(error))
            return None

    def _check_alone(self, address: IPv4Address | None, line: int, found_before: int) -> None:
        """What can be said of an address when the rest of its row cannot be used."""
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
        for column, value in (
            ("name", device.name.casefold()),
            ("address", device.address),
            ("mac", device.mac),
            ("circuit", device.circuit or None),
        ):
            if value is None:
                continue
            first = self._seen.setdefault((column, value), device)
            if first is not device:
                words = {"name": device.name, "circuit": circuit_words(device.circuit)}
                shown = words.get(column) or str(value)
                self._problem(
                    device.line, column, f"{shown}: is on line {first.line} too ({first.name})"
                )
