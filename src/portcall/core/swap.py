"""Which found device hangs in the place of one that is gone.

A device that was just hung up is not planned, and is where nobody has set it yet: it asks for an
address, has none, is at a maker's default one, took one itself, or has been given the planned one
already. Who is like the one that is gone is likelier; that alone decides nothing.
"""

from __future__ import annotations

import re
from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass
from ipaddress import IPv4Address

from portcall.core.address import SELF_ASSIGNED, AddressRange, Mac
from portcall.core.find.device import Device
from portcall.core.find.sighting import Field, Method
from portcall.core.finding import Finding, Line, Name, Setting
from portcall.core.plan.expected import alike, compared
from portcall.core.plan.near import difference
from portcall.core.plan.rows import Plan, PlannedDevice
from portcall.core.setting import sentences as say

IDENTITY = (Field.MAKER, Field.PRODUCT, Field.SERIAL, Field.FIRMWARE)
"""What tells one device from another, in the order in which it is shown."""

_FIRMWARE = re.compile(r"[\w.-]{1,32}", re.ASCII)

_PREFIX = 3
"""Octets at the front of a MAC that its maker has for itself (IEEE 802-2014 §8.2)."""


@dataclass(frozen=True, slots=True)
class Predecessor:
    """The device that is gone: its row, and what is known of who it was."""

    row: PlannedDevice
    said: Mapping[Field, str]

    @property
    def mac(self) -> Mac:
        """Its MAC, which its row has."""
        assert self.row.mac is not None
        return self.row.mac


def predecessor(
    row: PlannedDevice, when_set: Mapping[Field, str], maker: str | None
) -> Predecessor:
    """The planned identity of a row's device, or else its identity when it was set.

    ``maker`` is whose MAC it has. A limit for its firmware says nothing of the one it had.
    """
    planned = {Field(column): word for column, word in row.expected.asked.items()}
    if row.expected.firmware is not None and row.expected.firmware.limit:
        del planned[Field.FIRMWARE]
    by_mac = {Field.MAKER: maker} if maker else {}
    return Predecessor(row, {**by_mac, **when_set, **planned})


@dataclass(frozen=True, slots=True)
class Candidate:
    """A device that may be the new one, and why.

    ``alike`` tells whether it is the same product, or else of the same maker; None where nothing
    tells. ``doubt`` is what speaks against it.
    """

    device: Device
    why: str
    alike: bool | None
    doubt: str = ""

    @property
    def mac(self) -> Mac:
        """Its MAC, which every candidate has."""
        assert self.device.mac is not None
        return self.device.mac

    @property
    def said(self) -> dict[Field, str]:
        """Its identity, as far as it is known."""
        return {field: value for field in IDENTITY if (value := self.device.value(field))}


def own_words(device: Device) -> dict[Field, str]:
    """The identity that a device itself tells."""
    own = [said for said in device.said if said.method not in (Method.REGISTRY, Method.PLAN)]
    told = {field: device.value(field) for field in IDENTITY}
    return {
        field: value
        for field, value in told.items()
        if value and any(said.field is field and said.value == value for said in own)
    }


def candidates(
    gone: Predecessor, plan: Plan, devices: Sequence[Device], defaults: Sequence[AddressRange]
) -> tuple[Candidate, ...]:
    """The devices that may be the new one, the likeliest first."""
    order = {True: 0, None: 1, False: 2}
    found = [
        Candidate(device, why, _alike(gone, device), _doubt(gone, device))
        for device in devices
        if device.mac is not None and plan.by_mac(device.mac) is None
        if (why := _footing(gone.row, device, defaults)) is not None
    ]
    return tuple(sorted(found, key=lambda each: (order[each.alike], each.mac)))


def the_one(found: Sequence[Candidate]) -> Candidate | None:
    """The candidate that is meant when nobody says: the only one, or the only one that is alike."""
    alike = [each for each in found if each.alike]
    if len(found) == 1:
        return found[0]
    return alike[0] if len(alike) == 1 else None


def _footing(row: PlannedDevice, device: Device, defaults: Sequence[AddressRange]) -> str | None:
    """Why a device that is not planned may be a new one, or None."""
    if device.answers_for_others:
        return None
    if row.address in device.addresses:
        return f"it is at {row.address} already"
    if not device.addresses:
        if device.asks:
            return f"it asks for an address by {device.asks[0].protocol}"
        return "it has no address, and answers DCP" if Method.DCP in device.methods else None
    for address in device.addresses:
        if any(address in span for span in defaults):
            return f"it is at a maker's default address, {address}"
        if address in SELF_ASSIGNED:
            return f"it took {address} itself, because nobody gave it one"
    return None


def _alike(gone: Predecessor, device: Device) -> bool | None:
    was, now = gone.said.get(Field.PRODUCT), device.value(Field.PRODUCT)
    if was and now:
        return alike(was, now)
    if device.mac is not None and device.mac[:_PREFIX] == gone.mac[:_PREFIX]:
        return True
    was, now = gone.said.get(Field.MAKER), device.value(Field.MAKER)
    return alike(was, now) if was and now else None


def _doubt(gone: Predecessor, device: Device) -> str:
    how = difference(device.mac, gone.mac) if device.mac is not None else None
    return f"its MAC {how} the one in the plan: was that a slip?" if how else ""


def still_there(row: PlannedDevice, devices: Sequence[Device]) -> str | None:
    """Where the device that should be gone is heard, as a sentence, or None."""
    device = next((each for each in devices if each.mac == row.mac), None)
    if device is None:
        return None
    if device.addresses:
        where = f"answers at {', '.join(str(address) for address in device.addresses)}"
    elif device.asks:
        where = f"asks for an address by {device.asks[0].protocol}"
    else:
        where = "is heard on this wire, without an address"
    return f"{row.name} is still there: {row.mac} {where}"


def in_the_way(
    row: PlannedDevice, mac: Mac, devices: Sequence[Device], own: Collection[IPv4Address]
) -> Finding | None:
    """A finding about another holder of the planned address, or None."""
    if row.address in own:
        return say.OWN_ADDRESS(Line("match", row.name, "--replace"), address=row.address)
    holders = [each.mac for each in devices if row.address in each.addresses and each.mac != mac]
    return say.ADDRESS_TAKEN(address=row.address, mac=holders[0]) if holders else None


def other_product(gone: Predecessor, now: Mapping[Field, str]) -> Iterator[Finding]:
    """In what the new device is another product than its predecessor.

    One maker is written in several ways, in the registry of MACs and by its devices.
    """
    yield from _differences(gone, now, Field.PRODUCT)


def _differences(gone: Predecessor, now: Mapping[Field, str], *fields: Field) -> Iterator[Finding]:
    for field in fields:
        was, is_now = gone.said.get(field), now.get(field)
        if was and is_now and not alike(was, is_now):
            yield say.UNLIKE(column=field, value=is_now, before=was)


def unlike(gone: Predecessor, now: Mapping[Field, str]) -> Iterator[Finding]:
    """How the new device differs from its predecessor.

    The firmware of another product is no newer and no older.
    """
    yield from _differences(gone, now, Field.MAKER, Field.PRODUCT)
    if any(other_product(gone, now)):
        return
    was, is_now = gone.said.get(Field.FIRMWARE), now.get(Field.FIRMWARE)
    if was and is_now and was != is_now:
        order = compared(is_now, was)
        words = {
            None: "another than",
            1: "newer than",
            -1: "older than",
            0: "written otherwise than",
        }
        planned = gone.row.expected.firmware
        is_planned = planned is None or planned.agrees(is_now)
        line = None
        if not is_planned:
            # Only what reads as a firmware is put into a line: a device may say anything.
            told = Name(is_now) if _FIRMWARE.fullmatch(is_now) else None
            key = Name("firmware")
            line = Line("plan set", gone.row.name, Setting(key, told or "FIRMWARE"))
        yield say.OTHER_FIRMWARE(
            line,
            column=Field.FIRMWARE,
            value=is_now,
            order=words[order],
            before=was,
            planned=None if is_planned else str(planned),
        )
