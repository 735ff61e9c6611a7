"""The plan against the wire: a verdict for every planned device.

The first of these that holds is the verdict:

==============  =====================================================================
``not judged``  the planned address is this computer's own, or could not be asked; or what is
                planned, its mask above all, was not all read
``conflict``    two MACs answer for the planned address
``wrong MAC``   something answers there, but not the planned MAC
``elsewhere``   the planned MAC is at another address
``asking``      the planned MAC is heard asking for an address
``no address``  the planned MAC is there, without an address, and does not ask for one
``missing``     nothing of it was seen
``silent``      the right MAC is at the address, and answers nothing that was asked
``differs``     it says another mask, gateway or identity than the plan, or than when it was set
``right``       present, right MAC, right address, answers, and says all that is planned
==============  =====================================================================
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from enum import StrEnum
from ipaddress import IPv4Address

from portcall.core.address import Mac
from portcall.core.find.device import TRUST, Device, is_one_device
from portcall.core.find.sighting import Field, Method
from portcall.core.plan.near import MOST_NEAR, difference
from portcall.core.plan.rows import Plan, PlannedDevice
from portcall.core.reach.statistics import Reachability
from portcall.core.verify.planned_values import hold, not_read


class Verdict(StrEnum):
    """How a planned device stands; the names are part of ``verify --json``."""

    NOT_JUDGED = "not judged"
    RIGHT = "right"
    SILENT = "silent"
    DIFFERS = "differs"
    MISSING = "missing"
    ASKING = "asking"
    NO_ADDRESS = "no address"
    ELSEWHERE = "elsewhere"
    WRONG_MAC = "wrong MAC"
    CONFLICT = "conflict"


@dataclass(frozen=True, slots=True)
class Who:
    """What a device says itself of who it is."""

    product: str
    serial: str | None = None
    firmware: str | None = None

    def __str__(self) -> str:
        serial = f", serial {self.serial}" if self.serial else ""
        firmware = f", firmware {self.firmware}" if self.firmware else ""
        return f"{self.product}{serial}{firmware}"


@dataclass(frozen=True, slots=True)
class Judgement:
    """A row of the plan, its verdict, what supports it, and the identity that was read.

    ``mask`` is what the device says itself, ``seconds`` the time of an echo; None: not told.
    """

    row: PlannedDevice
    verdict: Verdict
    findings: tuple[str, ...]
    identity: Who | None = None
    seconds: float | None = None
    mask: str | None = None
    unread: tuple[str, ...] = ()
    """Columns of the plan that nobody could read, where all else is right: not judged for that."""
    by_hand: Mapping[str, str] = field(default_factory=dict)
    """What a person read at the device, by column, where it does not tell that itself."""

    @property
    def is_unread(self) -> bool:
        """Whether it answers as planned, and what is planned was not all read."""
        return bool(self.unread)

    @property
    def is_in_place(self) -> bool:
        """Whether the device has its address, and alone."""
        return self.is_unread or self.verdict in _IN_PLACE


_IN_PLACE = (Verdict.RIGHT, Verdict.DIFFERS, Verdict.SILENT)

Identity = Mapping[Field, str]
"""Product, serial and firmware, those that were told."""

IDENTITY_FIELDS = (Field.PRODUCT, Field.SERIAL, Field.FIRMWARE)


@dataclass(frozen=True, slots=True)
class Asked:
    """What could be asked, and what not.

    ``own`` are this computer's addresses, each with the adapter that has it; ``identity`` the
    addresses that were asked who they are; ``routers`` the router that is on the way to one;
    ``refused`` why an address could not be asked anything.
    """

    own: Mapping[IPv4Address, str] = field(default_factory=dict)
    identity: Collection[IPv4Address] = ()
    routers: Mapping[IPv4Address, IPv4Address] = field(default_factory=dict)
    refused: Mapping[IPv4Address, str] = field(default_factory=dict)
    interrupted: str = ""
    """What kept this computer from hearing for some time: who was not heard may be there."""


@dataclass(frozen=True, slots=True)
class Seen:
    """All that a row is judged by.

    ``reached`` are the echoes, ``known`` who the devices were when they were set, ``by_hand`` what
    a person read at them, by column.
    """

    plan: Plan
    devices: Sequence[Device]
    reached: Mapping[IPv4Address, Reachability]
    asked: Asked
    known: Mapping[Mac, Identity] = field(default_factory=dict)
    by_hand: Mapping[Mac, Mapping[str, str]] = field(default_factory=dict)

    def at(self, address: IPv4Address) -> list[Device]:
        """The devices at an address."""
        return [device for device in self.devices if address in device.addresses]

    def with_mac(self, mac: Mac | None) -> Device | None:
        """The device with a MAC, or None."""
        if mac is None:
            return None
        return next((device for device in self.devices if device.mac == mac), None)


def judge(seen: Seen, rows: Iterable[PlannedDevice] | None = None) -> tuple[Judgement, ...]:
    """Judge these rows of the plan, or every row, by what was found and who answered echoes."""
    judged = (_judge(row, seen) for row in (seen.plan if rows is None else rows))
    return tuple(_unless_interrupted(judgement, seen.asked.interrupted) for judgement in judged)


def _unless_interrupted(judgement: Judgement, interrupted: str) -> Judgement:
    """Nobody is said to be silent or missing who was asked while nothing could be heard."""
    if not interrupted or judgement.verdict not in (Verdict.SILENT, Verdict.MISSING):
        return judgement
    finding = f"{interrupted}: portcall verify {judgement.row.name}"
    return replace(judgement, verdict=Verdict.NOT_JUDGED, findings=(finding,))


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


def _judge(row: PlannedDevice, seen: Seen) -> Judgement:
    there = seen.at(row.address)
    holders = [device for device in there if device.mac is not None]
    own = seen.with_mac(row.mac)
    if row.address in seen.asked.own:
        return Judgement(row, Verdict.NOT_JUDGED, tuple(_own_address(row, seen, holders)))
    if is_one_device(holders):
        # Plugs of one device on this wire answer for each other; the planned one counts.
        holders = [each for each in holders if each.mac == row.mac] or holders[:1]
    if len(holders) > 1:
        shared = " and ".join(str(device.mac) for device in holders)
        return Judgement(row, Verdict.CONFLICT, (f"{row.address} is shared by {shared}",))
    if holders and row.mac is not None and holders[0].mac != row.mac:
        return Judgement(row, Verdict.WRONG_MAC, _stranger_there(row, seen.plan, holders[0], own))
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
        finding = f"it has no address and asks for one by {asks}: portcall assign {row.name} --keep"
        return Judgement(row, Verdict.ASKING, (finding,))
    refused = seen.asked.refused.get(row.address)
    if refused is not None:
        return Judgement(row, Verdict.NOT_JUDGED, (refused,), _identity(there))
    echo = seen.reached.get(row.address)
    if not there and not (echo is not None and echo.answers):
        router = seen.asked.routers.get(row.address)
        if router is not None:
            finding = f"no echo came back through the router {router}, and nothing else was asked"
            return Judgement(row, Verdict.NOT_JUDGED, (f"{finding}: portcall why {row.name}",))
        return Judgement(row, Verdict.MISSING, _lookalikes(row, seen.plan, seen.devices))
    judged = _present(row, there, holders, seen)
    is_open = judged.verdict in (Verdict.SILENT, Verdict.NOT_JUDGED)
    if is_open and echo is not None and echo.is_own and not echo.answers:
        # What this computer does itself tells nothing of the device.
        line = "" if ": portcall " in str(echo.reason) else f": portcall why {row.name}"
        finding = f"{echo.reason}{line}"
        return Judgement(row, Verdict.NOT_JUDGED, (finding,), judged.identity)
    return judged


def _own_address(row: PlannedDevice, seen: Seen, holders: Sequence[Device]) -> Iterator[str]:
    adapter = seen.asked.own[row.address]
    yield (
        f"{row.address} is this computer's own address on {adapter}: an answer from there would "
        f"be its own; take another: portcall match {row.name} --replace --adapter {adapter}"
    )
    for device in holders:
        yield f"{device.mac} answers for {row.address}, too"


def _present(
    row: PlannedDevice, there: Sequence[Device], holders: Sequence[Device], seen: Seen
) -> Judgement:
    findings: list[str] = []
    echo = seen.reached.get(row.address)
    router = seen.asked.routers.get(row.address)
    if row.mac is None and holders:
        findings.append(f"its MAC is {holders[0].mac}; the plan has none yet")
    elif not holders and router is not None:
        findings.append(f"MAC not seen: it is behind the router {router}")
    elif not holders:
        findings.append("MAC not seen: nobody answered ARP, or without privilege it was not asked")
    identity = _identity(there)
    if identity is None and row.address in seen.asked.identity:
        findings.append("identity not read: it says by no protocol who it is")
    elif identity is None:
        findings.append("identity not asked")
    answers = echo is not None and echo.answers
    seconds = echo.middle if echo is not None and answers else None
    if echo is None or not answers:
        reason = echo.reason if echo and echo.reason else "not asked"
        words = spoken(there)
        if not words:
            return Judgement(row, Verdict.SILENT, (f"ping: {reason}", *findings), identity)
        findings.append(f"ping: {reason}; it answers {', '.join(words)}")
    elif echo.loss:
        lost = f"{echo.sent - echo.received} of {echo.sent} echoes lost"
        findings.append(f"{lost}: portcall why {row.name}")
    mac = next((device.mac for device in holders), row.mac)
    held = hold(row, there, seen.by_hand.get(mac, {}) if mac is not None else {})
    differs = [*held.differs, *_another_device(there, seen.known)]
    unread = () if differs else held.unread
    verdict = Verdict.DIFFERS if differs else Verdict.NOT_JUDGED if unread else Verdict.RIGHT
    told = [*differs, *([not_read(row, held.unread)] if held.unread else ()), *findings]
    told += [f"its {column} is {value}, read by hand" for column, value in held.by_hand.items()]
    mask = _mask(there) or held.by_hand.get("mask")
    return Judgement(row, verdict, tuple(told), identity, seconds, mask, unread, held.by_hand)


_ASKED = tuple(method for method in TRUST if method.asks_who)
"""The methods by which a device answers with a word of its own, the most trusted first."""


def spoken(there: Sequence[Device]) -> list[str]:
    """The protocols by which a device said something of itself.

    A manner was seen of it, and not said: a port that opens, behind which nobody answers.
    """
    said = (each for device in there for each in device.said)
    methods = {each.method for each in said if each.field is not Field.MANNER}
    return [method.shown for method in _ASKED if method in methods]


def _mask(there: Sequence[Device]) -> str | None:
    return next((mask for device in there if (mask := device.value(Field.MASK))), None)


def _another_device(there: Sequence[Device], known: Mapping[Mac, Identity]) -> Iterator[str]:
    """Who it says it is, against who it was when it was set."""
    for device in there:
        before = known.get(device.mac, {}) if device.mac is not None else {}
        for told in IDENTITY_FIELDS:
            was, now = before.get(told), device.value(told)
            if was and now and was != now:
                yield f"its {told} is {now}, and was {was} when it was set"


def _stranger_there(
    row: PlannedDevice, plan: Plan, there: Device, own: Device | None
) -> tuple[str, ...]:
    findings = [f"{there.mac} is at {row.address}, planned is {row.mac}"]
    other = plan.by_mac(there.mac)
    how = difference(there.mac, row.mac) if there.mac and row.mac and other is None else None
    if other is not None:
        findings.append(f"which is {other.name}, planned at {other.address}")
    elif how:
        findings.append(f"which {how} the plan's {row.mac}: check the label")
    if own is not None and own.addresses:
        findings.append("it is at " + ", ".join(str(address) for address in own.addresses))
    return tuple(findings)


def _lookalikes(row: PlannedDevice, plan: Plan, devices: Sequence[Device]) -> tuple[str, ...]:
    if row.mac is None:
        return ("nothing answers at its address",)
    near = [
        f"{device.mac} {how}"
        for device in devices
        if device.mac is not None
        and plan.by_mac(device.mac) is None
        and (how := difference(device.mac, row.mac))
    ]
    if 0 < len(near) <= MOST_NEAR:
        listed = ", ".join(near)
        return (f"nothing at its address; {listed} the plan's MAC: check the label",)
    return ("nothing at its address, its MAC was not heard",)


def _identity(devices: Sequence[Device]) -> Who | None:
    """What a device says itself of who it is, by the protocol that is most to be believed."""
    for device in devices:
        if Method.CIP not in device.methods and Method.DCP in device.methods:
            said = {each.field: each.value for each in device.said if each.method is Method.DCP}
            if Field.PRODUCT in said:
                return Who(f"{said[Field.PRODUCT]}, {said.get(Field.NAME, 'no station name')}")
        told = {field: value for field in Field if (value := _own_word(device, field))}
        product = told.get(Field.PRODUCT) or told.get(Field.DESCRIPTION) or told.get(Field.NAME)
        if product is None:
            continue
        return Who(product, told.get(Field.SERIAL), told.get(Field.FIRMWARE))
    return None


def _own_word(device: Device, field: Field) -> str | None:
    """The most trusted value that the device itself told."""
    for method in _ASKED:
        for said in device.said:
            if said.field is field and said.method is method:
                return said.value
    return None
