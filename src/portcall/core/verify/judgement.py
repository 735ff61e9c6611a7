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
from portcall.core.find.device import Device, is_one_device
from portcall.core.find.inside.belonging import Belonging
from portcall.core.find.protocols import PROTOCOLS, TRUST
from portcall.core.find.sighting import Field, Method
from portcall.core.finding import Finding, Line, Name
from portcall.core.plan.near import MOST_NEAR, difference
from portcall.core.plan.rows import Plan, PlannedDevice
from portcall.core.reach.statistics import Reachability
from portcall.core.verify import sentences as say
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
    """The identity that a device itself tells."""

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
    findings: tuple[Finding, ...]
    identity: Who | None = None
    seconds: float | None = None
    mask: str | None = None
    unread: tuple[Name, ...] = ()
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
    """The addresses that could be asked, and those that could not.

    ``own`` are this computer's addresses, each with the adapter that has it; ``identity`` the
    addresses that were asked who they are; ``routers`` the router that is on the way to one;
    ``refused`` why an address could not be asked anything.
    """

    own: Mapping[IPv4Address, str] = field(default_factory=dict)
    identity: Collection[IPv4Address] = ()
    routers: Mapping[IPv4Address, IPv4Address] = field(default_factory=dict)
    refused: Mapping[IPv4Address, Finding] = field(default_factory=dict)
    interrupted: Finding | None = None
    """What kept this computer from hearing for some time: who was not heard may be there."""


@dataclass(frozen=True, slots=True)
class RowsSeen:
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


def judge(seen: RowsSeen, rows: Iterable[PlannedDevice] | None = None) -> tuple[Judgement, ...]:
    """Judge these rows of the plan, or every row, by what was found and who answered echoes."""
    judged = (_judge(row, seen) for row in (seen.plan if rows is None else rows))
    return tuple(_unless_interrupted(judgement, seen.asked.interrupted) for judgement in judged)


def _unless_interrupted(judgement: Judgement, interrupted: Finding | None) -> Judgement:
    """Nobody is said to be silent or missing who was asked while nothing could be heard."""
    if interrupted is None or judgement.verdict not in (Verdict.SILENT, Verdict.MISSING):
        return judgement
    finding = replace(interrupted, line=Line("verify", judgement.row.name))
    return replace(judgement, verdict=Verdict.NOT_JUDGED, findings=(finding,))


def unplanned(plan: Plan, devices: Sequence[Device]) -> tuple[Device, ...]:
    """Devices that are no row of the plan: neither by MAC nor, for rows without one, by address."""
    open_addresses = {row.address for row in plan if row.mac is None}
    planned = {row.mac for row in plan if row.mac is not None}
    answered = {row.address for row in plan}
    belonging = Belonging(devices)
    return tuple(
        device
        for device in devices
        if device.mac not in planned
        and not open_addresses.intersection(device.addresses)
        and not (device.mac is None and answered.intersection(device.addresses))
        and belonging.owner_of(device) is None
    )


def _judge(row: PlannedDevice, seen: RowsSeen) -> Judgement:
    there = seen.at(row.address)
    holders = [device for device in there if device.mac is not None]
    own = seen.with_mac(row.mac)
    if row.address in seen.asked.own:
        return Judgement(row, Verdict.NOT_JUDGED, tuple(_own_address(row, seen, holders)))
    if is_one_device(holders):
        # Two plugs of one device on this wire answer for each other; the planned one counts.
        holders = [each for each in holders if each.mac == row.mac] or holders[:1]
    if len(holders) > 1:
        shared = say.SHARED_BY(address=row.address, macs=[each.mac for each in holders])
        return Judgement(row, Verdict.CONFLICT, (shared,))
    if holders and row.mac is not None and holders[0].mac != row.mac:
        return Judgement(row, Verdict.WRONG_MAC, _stranger_there(row, seen.plan, holders[0], own))
    if own is not None and own.addresses and row.address not in own.addresses:
        finding = say.IS_AT(Line("move", row.name), addresses=own.addresses)
        return Judgement(row, Verdict.ELSEWHERE, (finding,), _identity([own]))
    if not there and own is not None and not own.asks:
        finding = say.DOES_NOT_ASK(Line("move", row.name))
        return Judgement(row, Verdict.NO_ADDRESS, (finding,), _identity([own]))
    if not there and own is not None:
        asks = [asking.protocol for asking in own.asks]
        finding = say.ASKS(Line("assign", row.name, "--keep"), protocols=asks)
        return Judgement(row, Verdict.ASKING, (finding,))
    refused = seen.asked.refused.get(row.address)
    if refused is not None:
        return Judgement(row, Verdict.NOT_JUDGED, (refused,), _identity(there))
    echo = seen.reached.get(row.address)
    if not there and not (echo is not None and echo.answers):
        router = seen.asked.routers.get(row.address)
        if router is not None:
            finding = say.NO_ECHO_THROUGH(Line("why", row.name), router=router)
            return Judgement(row, Verdict.NOT_JUDGED, (finding,))
        return Judgement(row, Verdict.MISSING, _lookalikes(row, seen.plan, seen.devices))
    judged = _present(row, there, holders, seen)
    is_open = judged.verdict in (Verdict.SILENT, Verdict.NOT_JUDGED)
    if is_open and echo is not None and echo.is_own and not echo.answers:
        # A fault of this computer says nothing about the device.
        because = echo.known or say.KEPT_HERE(because=echo.reason)
        finding = because if because.line else replace(because, line=Line("why", row.name))
        return Judgement(row, Verdict.NOT_JUDGED, (finding,), judged.identity)
    return judged


def _own_address(
    row: PlannedDevice, seen: RowsSeen, holders: Sequence[Device]
) -> Iterator[Finding]:
    adapter = Name(seen.asked.own[row.address])
    line = Line("match", row.name, "--replace", "--adapter", adapter)
    yield say.OWN_ADDRESS(line, address=row.address, adapter=adapter)
    for device in holders:
        yield say.ANSWERS_TOO(mac=device.mac, address=row.address)


def _present(
    row: PlannedDevice, there: Sequence[Device], holders: Sequence[Device], seen: RowsSeen
) -> Judgement:
    findings: list[Finding] = []
    echo = seen.reached.get(row.address)
    router = seen.asked.routers.get(row.address)
    if row.mac is None and holders:
        findings.append(say.MAC_IS(mac=holders[0].mac))
    elif not holders and router is not None:
        findings.append(say.MAC_BEHIND_ROUTER(router=router))
    elif not holders:
        findings.append(say.MAC_NOT_SEEN())
    identity = _identity(there)
    if identity is None and row.address in seen.asked.identity:
        findings.append(say.IDENTITY_NOT_READ())
    elif identity is None:
        findings.append(say.IDENTITY_NOT_ASKED())
    answers = echo is not None and echo.answers
    seconds = echo.middle if echo is not None and answers else None
    if echo is None or not answers:
        because = echo.because if echo is not None else None
        known = echo.known if echo is not None else None
        protocols = spoken(there)
        no_ping = say.NO_PING(
            known.line if known else None,
            because=known.sentence if known else because or "not asked",
            protocols=protocols,
        )
        if not protocols:
            return Judgement(row, Verdict.SILENT, (no_ping, *findings), identity)
        findings.append(no_ping)
    elif echo.loss:
        lost = echo.sent - echo.received
        findings.append(say.ECHOES_LOST(Line("why", row.name), lost=lost, sent=echo.sent))
    mac = next((device.mac for device in holders), row.mac)
    held = hold(row, there, seen.by_hand.get(mac, {}) if mac is not None else {})
    differs = [*held.differs, *_another_device(there, seen.known)]
    unread = () if differs else held.unread
    verdict = Verdict.DIFFERS if differs else Verdict.NOT_JUDGED if unread else Verdict.RIGHT
    told = [*differs, *([not_read(row, held.unread)] if held.unread else ()), *findings]
    told += [say.READ_BY_HAND(column=each, value=value) for each, value in held.by_hand.items()]
    mask = _mask(there) or held.by_hand.get("mask")
    return Judgement(row, verdict, tuple(told), identity, seconds, mask, unread, held.by_hand)


_ASKED = tuple(method for method in TRUST if PROTOCOLS[method].says_who)
"""The methods by which a device answers with a word of its own, the most trusted first."""


def spoken(there: Sequence[Device]) -> list[str]:
    """The protocols by which a device said something of itself.

    A manner was seen of it, and not said: a port that opens, behind which nobody answers.
    """
    said = (each for device in there for each in device.said)
    methods = {each.method for each in said if each.field is not Field.MANNER}
    return [PROTOCOLS[method].shown for method in _ASKED if method in methods]


def _mask(there: Sequence[Device]) -> str | None:
    return next((mask for device in there if (mask := device.value(Field.MASK))), None)


def _another_device(there: Sequence[Device], known: Mapping[Mac, Identity]) -> Iterator[Finding]:
    """Differences between the told identity and that of when it was set."""
    for device in there:
        before = known.get(device.mac, {}) if device.mac is not None else {}
        for told in IDENTITY_FIELDS:
            was, now = before.get(told), device.value(told)
            if was and now and was != now:
                yield say.ANOTHER_DEVICE(column=told, value=now, before=was)


def _stranger_there(
    row: PlannedDevice, plan: Plan, there: Device, own: Device | None
) -> tuple[Finding, ...]:
    findings = [say.ANOTHER_THERE(mac=there.mac, address=row.address, planned=row.mac)]
    other = plan.by_mac(there.mac)
    how = difference(there.mac, row.mac) if there.mac and row.mac and other is None else None
    if other is not None:
        findings.append(say.WHICH_IS(name=other.name, address=other.address))
    elif how:
        findings.append(say.WHICH_NEARLY_IS(how=how, planned=row.mac))
    if own is not None and own.addresses:
        findings.append(say.IS_AT(addresses=own.addresses))
    return tuple(findings)


def _lookalikes(row: PlannedDevice, plan: Plan, devices: Sequence[Device]) -> tuple[Finding, ...]:
    if row.mac is None:
        return (say.NOTHING_AT_ADDRESS(),)
    near = [
        say.LOOKALIKE(mac=device.mac, how=how)
        for device in devices
        if device.mac is not None
        and plan.by_mac(device.mac) is None
        and (how := difference(device.mac, row.mac))
    ]
    if 0 < len(near) <= MOST_NEAR:
        return (say.LOOKALIKES(near=near),)
    return (say.MAC_NOT_HEARD(),)


def _identity(devices: Sequence[Device]) -> Who | None:
    """The identity that a device itself tells, by its most trusted protocol."""
    for device in devices:
        if Method.CIP not in device.methods and Method.DCP in device.methods:
            own = (each for each in device.said if each.method is Method.DCP)
            said = {each.field: str(each.value) for each in own}
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
                return str(said.value)
    return None
