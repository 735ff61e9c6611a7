"""The plan against the wire: a verdict for every planned device.

The first of these that holds is the verdict:

==============  =====================================================================
``conflict``    two MACs answer for the planned address
``wrong MAC``   something answers there, but not the planned MAC
``elsewhere``   the planned MAC is at another address
``asking``      the planned MAC is heard asking for an address
``no address``  the planned MAC is there, without an address, and does not ask for one
``missing``     nothing of it was seen
``silent``      the right MAC is at the address, but no echo comes back
``right``       present, right MAC, right address, answers
==============  =====================================================================
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from enum import StrEnum
from ipaddress import IPv4Address

from portcall.core.address import Mac
from portcall.core.find.device import Device
from portcall.core.find.sighting import Field, Method
from portcall.core.plan.near import difference
from portcall.core.plan.rows import Plan, PlannedDevice
from portcall.core.reach.statistics import Reachability


class Verdict(StrEnum):
    """How a planned device stands; the names are part of ``verify --json``."""

    RIGHT = "right"
    SILENT = "silent"
    MISSING = "missing"
    ASKING = "asking"
    NO_ADDRESS = "no address"
    ELSEWHERE = "elsewhere"
    WRONG_MAC = "wrong MAC"
    CONFLICT = "conflict"


@dataclass(frozen=True, slots=True)
class Judgement:
    """A row of the plan, its verdict, what supports it, and the identity that was read."""

    row: PlannedDevice
    verdict: Verdict
    findings: tuple[str, ...]
    identity: str | None = None
    seconds: float | None = None


def judge(
    plan: Plan, devices: Sequence[Device], reached: Mapping[IPv4Address, Reachability]
) -> tuple[Judgement, ...]:
    """Judge every row of the plan by what was found and which addresses answered echoes."""
    by_mac = {device.mac: device for device in devices if device.mac is not None}
    return tuple(_judge(row, devices, by_mac, reached.get(row.address)) for row in plan)


def unplanned(plan: Plan, devices: Sequence[Device]) -> tuple[Device, ...]:
    """Devices that are no row of the plan: neither by MAC nor, for rows without one, by address."""
    open_addresses = {row.address for row in plan if row.mac is None}
    planned = {row.mac for row in plan if row.mac is not None}
    answered = {row.address for row in plan}
    return tuple(
        device
        for device in devices
        if device.mac not in planned
        and not open_addresses.intersection(device.addresses)
        and not (device.mac is None and answered.intersection(device.addresses))
    )


def _judge(
    row: PlannedDevice,
    devices: Sequence[Device],
    by_mac: Mapping[Mac, Device],
    echo: Reachability | None,
) -> Judgement:
    there = [device for device in devices if row.address in device.addresses]
    holders = [device for device in there if device.mac is not None]
    own = by_mac.get(row.mac) if row.mac else None
    if len(holders) > 1:
        shared = " and ".join(str(device.mac) for device in holders)
        return Judgement(row, Verdict.CONFLICT, (f"{row.address} is shared by {shared}",))
    if holders and row.mac is not None and holders[0].mac != row.mac:
        return Judgement(row, Verdict.WRONG_MAC, _stranger_there(row, row.mac, holders[0], own))
    if own is not None and own.addresses and row.address not in own.addresses:
        at = ", ".join(str(address) for address in own.addresses)
        return Judgement(
            row, Verdict.ELSEWHERE, (f"it is at {at}: portcall move {row.name}",), _identity([own])
        )
    if not there and own is not None and not own.asks:
        finding = f"it is there, and does not ask for an address: portcall move {row.name}"
        return Judgement(row, Verdict.NO_ADDRESS, (finding,), _identity([own]))
    if not there and own is not None:
        asks = ", ".join(str(asking.protocol) for asking in own.asks)
        finding = (
            f"heard by {asks}, without an address; serve it: portcall assign {row.name} --keep"
        )
        return Judgement(row, Verdict.ASKING, (finding,))
    answers = echo is not None and echo.answers
    if not there and not answers:
        return Judgement(row, Verdict.MISSING, _lookalikes(row, devices))
    return _present(row, there, holders, echo)


def _present(
    row: PlannedDevice,
    there: Sequence[Device],
    holders: Sequence[Device],
    echo: Reachability | None,
) -> Judgement:
    findings: list[str] = []
    if row.mac is None and holders:
        findings.append(f"MAC is {holders[0].mac}; the plan has none yet")
    elif not holders:
        findings.append("MAC not seen: without privilege ARP cannot be asked")
    identity = _identity(there)
    if identity is None:
        findings.append("identity not read: it answers no CIP and no DCP")
    if echo is None or not echo.answers:
        reason = echo.reason if echo and echo.reason else "not asked"
        return Judgement(row, Verdict.SILENT, (f"ping: {reason}", *findings), identity)
    if echo.loss:
        findings.append(f"{echo.sent - echo.received} of {echo.sent} echoes lost")
    return Judgement(row, Verdict.RIGHT, tuple(findings), identity, echo.middle)


def _stranger_there(
    row: PlannedDevice, planned: Mac, there: Device, own: Device | None
) -> tuple[str, ...]:
    findings = [f"{there.mac} is at {row.address}"]
    how = difference(there.mac, planned) if there.mac else None
    if how:
        findings.append(f"which {how} the plan's {planned}: check the label")
    if own is not None and own.addresses:
        findings.append("it is at " + ", ".join(str(address) for address in own.addresses))
    return tuple(findings)


def _lookalikes(row: PlannedDevice, devices: Sequence[Device]) -> tuple[str, ...]:
    if row.mac is None:
        return ("nothing answers at its address",)
    for device in devices:
        how = difference(device.mac, row.mac) if device.mac else None
        if how:
            return (f"nothing at its address; {device.mac} {how} the plan's MAC: check the label",)
    return ("nothing at its address, its MAC was not heard",)


def _identity(devices: Sequence[Device]) -> str | None:
    """Product, serial and firmware by CIP, product and name by DCP: what it said itself."""
    for device in devices:
        if Method.CIP not in device.methods:
            said = {each.field: each.value for each in device.said if each.method is Method.DCP}
            if Field.PRODUCT in said:
                name = said.get(Field.NAME, "no station name")
                return f"{said[Field.PRODUCT]}, {name}"
            continue
        product, serial = device.value(Field.PRODUCT), device.value(Field.SERIAL)
        return f"{product}, serial {serial}, firmware {device.value(Field.FIRMWARE)}"
    return None
