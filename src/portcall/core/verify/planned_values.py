"""Planned values, held against those that a device tells or a person read at it."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from ipaddress import IPv4Network

from portcall.core.address import parse_address, parse_mask
from portcall.core.find.device import Device
from portcall.core.find.sighting import Field, Method
from portcall.core.finding import Finding, Line, Name, Option, Setting
from portcall.core.plan.rows import PlannedDevice
from portcall.core.printable import printable
from portcall.core.trouble import BadInput
from portcall.core.verify import sentences as say

_TO_BE_READ: Mapping[str, Option] = {
    "mask": "MASK",
    "gateway": "GATEWAY",
    "maker": "MAKER",
    "product": "PRODUCT",
    "serial": "SERIAL",
    "firmware": "FIRMWARE",
}

READABLE = tuple(_TO_BE_READ)
"""What can be planned of a device besides who and where it is: columns of the plan."""

_NOT_ITS_OWN = (Method.PLAN, Method.REGISTRY)
"""Lists that tell something of a device whatever it says itself."""

_NO_GATEWAY = "none"
_LONGEST = 100


@dataclass(frozen=True, slots=True)
class Held:
    """The differences from the plan; the columns that nobody read; and, by column, the values that
    a person read where the device tells none."""

    differs: tuple[Finding, ...]
    unread: tuple[Name, ...]
    by_hand: Mapping[str, str]


def hold(row: PlannedDevice, there: Sequence[Device], read: Mapping[str, str]) -> Held:
    """Hold a row against the devices at its address.

    ``read`` is what a person read there, by column; it counts where the device tells nothing.
    """
    differs: list[Finding] = []
    unread: list[Name] = []
    by_hand: dict[str, str] = {}
    for column, wanted in _planned(row).items():
        told = list(_told(column, there))
        if _agrees(row, column, wanted, [text for text, _ in told]):
            continue
        own = [text for text, method in told if method not in _NOT_ITS_OWN]
        if not own and column in read:
            by_hand[column] = read[column]
            own = [read[column]]
            if _agrees(row, column, wanted, own):
                continue
        if own:
            line = Line("move", row.name) if column in ("mask", "gateway") else None
            differs.append(say.DIFFERS(line, column=column, value=own[0], planned=wanted))
        else:
            unread.append(column)
    return Held(tuple(differs), tuple(unread), by_hand)


def not_read(row: PlannedDevice, columns: Sequence[Name]) -> Finding:
    """Planned values that the device does not tell, and the line by which a person does."""
    planned = _planned(row)
    told = [say.PLANNED_VALUE(column=each, planned=planned[each]) for each in columns]
    read: list[Option | Setting] = []
    for each in columns:
        read += ["--read", Setting(each, _TO_BE_READ[each])]
    line = Line("verify", row.name, *read)
    return say.NOT_READ(line, columns=told, several=len(columns) > 1)


def parse_reading(text: str) -> tuple[str, str]:
    """Read ``COLUMN=VALUE``, as a person read it at a device. Raises BadInput."""
    column, equals, value = (printable(part).strip() for part in text.partition("="))
    if not equals or column not in READABLE or not value:
        raise BadInput(
            f"{printable(text)}: write what you read as COLUMN=VALUE; COLUMN is one of "
            + ", ".join(READABLE)
        )
    if column == "mask":
        return column, str(IPv4Network((0, parse_mask(value))).netmask)
    if column == "gateway" and value != _NO_GATEWAY:
        return column, str(parse_address(value))
    if len(value) > _LONGEST:
        raise BadInput(f"{column}: has {len(value)} letters", f"at most {_LONGEST} are kept")
    return column, value


def _planned(row: PlannedDevice) -> dict[Name, str]:
    """The planned values, by column, as people write them."""
    planned = {} if row.mask_assumed else {Name("mask"): str(row.interface.netmask)}
    if row.gateway is not None:
        planned[Name("gateway")] = str(row.gateway)
    return planned | {Name(column): wanted for column, wanted in row.expected.asked.items()}


def _agrees(row: PlannedDevice, column: str, wanted: str, said: Sequence[str]) -> bool:
    if column in ("mask", "gateway"):
        return said[:1] == [wanted]
    return row.expected.agrees(column, said)


def _told(column: str, there: Sequence[Device]) -> Iterator[tuple[str, Method]]:
    """The values that the devices tell of a column, and the methods."""
    for device in there:
        if column != "gateway":
            told = (said for said in device.said if said.field == column)
            yield from ((str(said.value), said.method) for said in told)
            continue
        # Who reports the mask also reports the gateway; if it reports none, there is none.
        mask = next((said for said in device.said if said.field is Field.MASK), None)
        if mask is not None:
            own = (s for s in device.said if s.field is Field.GATEWAY and s.method is mask.method)
            gateway = next(own, None)
            yield str(gateway.value) if gateway else _NO_GATEWAY, mask.method
