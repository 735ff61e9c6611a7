"""The verdict for a planned part of a device: a unit, a module, an interface.

It is judged by what its device told when it was asked for that part, and by nothing else: a unit
answers by its gateway, a module by its rack. An interface with an address of its own is judged
where it is reached first; where it is not, by what its device tells of it.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace

from portcall.core.find.device import Device
from portcall.core.find.inside.merging import macs_of
from portcall.core.find.sighting import Field, FoundPart, PartState
from portcall.core.finding import Finding, Line, Name
from portcall.core.part_path import PartKind
from portcall.core.plan.rows import PlannedDevice
from portcall.core.verify import sentences as say
from portcall.core.verify.judgement import Judgement, RowsSeen, Verdict, Who

_ABSENT = {PartState.NOT_THERE: Verdict.MISSING, PartState.SILENT: Verdict.SILENT}


def judge_parts(seen: RowsSeen, judged: Sequence[Judgement]) -> tuple[Judgement, ...]:
    """These judgements, with those of parts by what their devices told of them."""
    return tuple(_judged(each, seen) if each.row.part is not None else each for each in judged)


def _judged(judgement: Judgement, seen: RowsSeen) -> Judgement:
    row = judgement.row
    if row.part is None or (not row.has_no_address and judgement.verdict is Verdict.RIGHT):
        return judgement
    device = seen.plan.by_name(row.of)
    holders = [] if device is None else seen.at(device.address)
    mac = device.mac if device is not None else None
    holder = next((each for each in holders if mac in (None, each.mac)), None)
    if holder is None:
        if not row.has_no_address and row.part.kind is PartKind.PORT:
            return judgement
        away = say.DEVICE_AWAY(Line("why", row.of), of=row.of, part=str(row.part))
        return Judgement(row, Verdict.NOT_JUDGED, (away,))
    part = _part(row, holder)
    if row.part.kind is PartKind.PORT:
        own = {each.mac for each in seen.at(row.address)} <= macs_of(holder)
        return judgement if part is None else _port(row, part, judgement, own)
    if part is None:
        unasked = say.PART_NOT_ASKED(Line("why", row.name), of=row.of, part=str(row.part))
        return Judgement(row, Verdict.NOT_JUDGED, (unasked,))
    return _inner(row, part, holder)


def _part(row: PlannedDevice, holder: Device) -> FoundPart | None:
    """The part that a row is of: an interface by its MAC, where it has one; else by its number."""
    own = [part for part in holder.parts if row.mac is not None and row.mac in part.macs]
    return next(iter(own), None) or next(
        (part for part in holder.parts if part.path == row.part), None
    )


def _port(row: PlannedDevice, part: FoundPart, judgement: Judgement, is_own: bool) -> Judgement:
    """An interface that was not reached as it is planned, by what its device says of it.

    ``is_own``: only the device itself answers at its address; by another plug, if by another MAC.
    """
    has = [each.ip for each in part.interfaces]
    told = say.PORT_HAS(
        of=row.of, part=str(part.path), interfaces=[str(each) for each in part.interfaces]
    )
    if row.address not in has:
        # It may be set where its own wire is, and this adapter need not be on that.
        return Judgement(row, Verdict.DIFFERS, (told, *judgement.findings))
    own = next(each for each in part.interfaces if each.ip == row.address)
    if not row.mask_assumed and own.network.prefixlen not in (32, row.interface.network.prefixlen):
        return Judgement(row, Verdict.DIFFERS, (told,), None, None, str(own.netmask))
    is_other = judgement.verdict is Verdict.WRONG_MAC and not is_own
    if is_other or judgement.verdict in (Verdict.CONFLICT, Verdict.DIFFERS):
        return judgement
    if part.evidence is not None:
        # It has its address, and nobody can be reached by it.
        findings = (told, part.evidence)
        return Judgement(row, Verdict.NOT_JUDGED, findings, None, None, str(own.netmask))
    return Judgement(row, Verdict.RIGHT, (told,), None, None, str(own.netmask))


def _inner(row: PlannedDevice, part: FoundPart, holder: Device) -> Judgement:
    """A unit or a module."""
    elsewhere = tuple(_elsewhere(row, part, holder))
    if part.state in _ABSENT:
        evidence = part.evidence or say.PART_SILENT(part=str(row.part))
        found = replace(evidence, line=Line("why", row.name))
        return Judgement(row, _ABSENT[part.state], (found, *elsewhere))
    who = _who(part)
    differs: list[Finding] = []
    unread: list[Name] = []
    for column, wanted in row.expected.asked.items():
        told = [str(each.value) for each in part.said if each.field == column]
        if row.expected.agrees(column, told):
            continue
        if told:
            differs.append(say.DIFFERS(column=column, value=told[0], planned=wanted))
        else:
            unread.append(Name(column))
    findings = (*differs, *elsewhere)
    if differs:
        return Judgement(row, Verdict.DIFFERS, findings, who)
    if unread:
        several = len(unread) > 1
        open_ = say.PART_NOT_READ(part=str(row.part), columns=unread, several=several)
        return Judgement(row, Verdict.NOT_JUDGED, (open_,), who, unread=tuple(unread))
    slow = (say.SLOW(seconds=part.seconds),) if part.seconds >= _SLOW else ()
    return Judgement(row, Verdict.RIGHT, slow, who)


_SLOW = 1.0


def _elsewhere(row: PlannedDevice, part: FoundPart, holder: Device) -> Iterator[Finding]:
    """Another part of the device that says the planned serial number."""
    serial = row.expected.asked.get("serial")
    for other in holder.parts if serial else ():
        told = other.value(Field.SERIAL)
        if other.path != part.path and told and row.expected.agrees("serial", [told]):
            yield say.IS_OTHER_PART(part=str(other.path), serial=told)


def _who(part: FoundPart) -> Who | None:
    product = part.value(Field.PRODUCT) or part.value(Field.DESCRIPTION)
    if product is None:
        return None
    return Who(product, part.value(Field.SERIAL), part.value(Field.FIRMWARE))
