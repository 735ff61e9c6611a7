"""The rules for rows that are a part of another row's device.

A unit behind a gateway, a module in a rack and an interface that shares its device's address have
none of their own. An interface with an address of its own is a row like any other, in a subnet of
its own: a device with two interfaces in one subnet answers by one of them only, and nobody can say
by which (RFC 1122 §3.3.4.2 leaves it to the device).
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import replace
from ipaddress import IPv4Address, IPv4Interface
from itertools import combinations

from portcall.core.part_path import PartKind, parse_path
from portcall.core.plan.rows import Plan, PlannedDevice
from portcall.core.trouble import BadInput

NO_INTERFACE = IPv4Interface("0.0.0.0/0")
"""What stands for the address of a part until that of its device is known."""

Problem = Callable[[int, str | None, str], None]
"""Where something is wrong, in which column, and what."""


def is_same_device(one: PlannedDevice, other: PlannedDevice) -> bool:
    """Whether two rows are of one device, and at least one of them is a part of it."""
    device = (one.of or one.name).casefold()
    return device == (other.of or other.name).casefold() and bool(one.of or other.of)


def with_parts(
    rows: Sequence[PlannedDevice],
    inside: Sequence[PlannedDevice],
    columns: tuple[str, ...],
    problem: Problem,
) -> Plan:
    """The plan of rows with an address and parts ``inside`` without one; says what is wrong."""
    devices = {row.name.casefold(): row for row in rows if not row.of}
    parts = [row for row in (*rows, *inside) if row.of]
    names = {row.name.casefold() for row in parts}
    for row in parts:
        if row.of.casefold() in names:
            problem(row.line, "of", f"{row.of}: is a part itself; name the device that it is in")
        elif row.of.casefold() not in devices:
            problem(row.line, "of", f"{row.of}: is the name of no device in the plan")
        _check_part(row, devices.get(row.of.casefold()), problem)
    _check_once(parts, problem)
    by_device: dict[str, list[PlannedDevice]] = {}
    for row in rows:
        by_device.setdefault((row.of or row.name).casefold(), []).append(row)
    for interfaces in by_device.values():
        _check_subnets(interfaces, problem)
    shared = {
        row.name
        for interfaces in by_device.values()
        for row in interfaces
        if row.of and _shares(row, interfaces)
    }
    resolved = [
        replace(row, interface=devices[row.of.casefold()].interface, has_no_address=True)
        for row in inside
        if row.of.casefold() in devices
    ]
    return Plan(
        tuple(row for row in rows if row.name not in shared),
        columns,
        (*(row for row in rows if row.name in shared), *resolved),
    )


def _check_part(row: PlannedDevice, device: PlannedDevice | None, problem: Problem) -> None:
    """What a unit cannot have: it is reached by its gateway, and by nothing else."""
    if row.part is None or row.part.kind is not PartKind.UNIT:
        return
    if row.mac is not None or row.circuit:
        problem(row.line, "mac", f"{row.part} has none of its own; leave it empty")
    if row.interface != NO_INTERFACE and (device is None or row.address != device.address):
        problem(
            row.line, "address", f"{row.address}: {row.part} has none of its own; leave it empty"
        )


def _check_once(parts: Sequence[PlannedDevice], problem: Problem) -> None:
    seen: dict[tuple[str, object], PlannedDevice] = {}
    for row in parts:
        first = seen.setdefault((row.of.casefold(), row.part), row)
        if first is not row and row.part is not None:
            problem(
                row.line,
                "part",
                f"{row.part} of {row.of}: is on line {first.line} too ({first.name})",
            )


def _check_subnets(interfaces: Sequence[PlannedDevice], problem: Problem) -> None:
    """Interfaces of one device in overlapping subnets; those that share an address mean it."""
    for one, other in combinations(interfaces, 2):
        if one.address == other.address or not is_same_device(one, other):
            continue
        if one.interface.network.overlaps(other.interface.network):
            first, last = sorted((one, other), key=lambda row: row.line)
            problem(
                last.line,
                "address",
                f"{last.interface}: its subnet overlaps that of {first.interface} "
                f"({first.name}, line {first.line}), and both are interfaces of one device; "
                "give each a subnet of its own, or both the same address",
            )


def _shares(row: PlannedDevice, rows: Iterable[PlannedDevice]) -> bool:
    """Whether a row of the same device, before it, has its address."""
    return any(
        other.address == row.address and is_same_device(other, row)
        for other in rows
        if other is not row and (not other.of or other.line < row.line)
    )


def part_named(name: str, plan: Plan) -> dict[str, str]:
    """The cells of a row that is named after its device: ``fan-panel.lan2``; else none."""
    device, dot, word = name.rpartition(".")
    row = plan.by_name(device) if dot else None
    if row is None or row.of:
        return {}
    try:
        part = parse_path(word)
    except BadInput:
        return {}
    return {"of": row.name, "part": str(part)}


def other_interfaces(name: str, plan: Plan) -> set[IPv4Address]:
    """The planned addresses of the other interfaces of a row's device."""
    planned = plan.by_name(name)
    family = (row for row in plan if planned is not None and is_same_device(row, planned))
    return {row.address for row in family if row is not planned}
