"""What a device says of itself, or a person read at it, against what is planned of it."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from ipaddress import IPv4Network

from portcall.core.address import parse_address, parse_mask
from portcall.core.find.device import Device
from portcall.core.find.sighting import Field, Method, Said
from portcall.core.plan.rows import PlannedDevice
from portcall.core.printable import printable
from portcall.core.trouble import BadInput

READABLE = ("mask", "gateway", "maker", "product", "serial", "firmware")
"""What can be planned of a device besides who and where it is: columns of the plan."""

_NOT_ITS_OWN = (Method.PLAN, Method.REGISTRY)
"""Lists that tell something of a device whatever it says itself."""

_NO_GATEWAY = "none"
_LONGEST = 100


@dataclass(frozen=True, slots=True)
class Held:
    """What is otherwise than planned, in sentences; the columns that nobody read; and what a person
    read of those that the device does not tell, by column."""

    differs: tuple[str, ...]
    unread: tuple[str, ...]
    by_hand: Mapping[str, str]


def hold(row: PlannedDevice, there: Sequence[Device], read: Mapping[str, str]) -> Held:
    """Hold a row against the devices at its address.

    ``read`` is what a person read there, by column; it counts where the device tells nothing.
    """
    differs, unread, by_hand = [], [], {}
    for column, wanted in _planned(row).items():
        told = list(_told(column, there))
        if _agrees(row, column, wanted, [each.value for each in told]):
            continue
        own = [each.value for each in told if each.method not in _NOT_ITS_OWN]
        if not own and column in read:
            by_hand[column] = read[column]
            own = [read[column]]
            if _agrees(row, column, wanted, own):
                continue
        if own:
            line = f": portcall move {row.name}" if column in ("mask", "gateway") else ""
            differs.append(f"its {column} is {own[0]}, planned is {wanted}{line}")
        else:
            unread.append(column)
    return Held(tuple(differs), tuple(unread), by_hand)


def not_read(row: PlannedDevice, columns: Sequence[str]) -> str:
    """What to do about planned values that the device does not tell."""
    planned = _planned(row)
    what = " and ".join(f"its {column} (planned: {planned[column]})" for column in columns)
    was = "was" if len(columns) == 1 else "were"
    options = " ".join(f"--read {column}={column.upper()}" for column in columns)
    return f"{what} {was} not read; as you read it there: portcall verify {row.name} {options}"


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
        raise BadInput(f"{column}: has {len(value)} letters; at most {_LONGEST} are kept")
    return column, value


def _planned(row: PlannedDevice) -> dict[str, str]:
    """What is planned, by column, as people write it."""
    planned = {} if row.mask_assumed else {"mask": str(row.interface.netmask)}
    if row.gateway is not None:
        planned["gateway"] = str(row.gateway)
    return planned | row.expected.asked


def _agrees(row: PlannedDevice, column: str, wanted: str, said: Sequence[str]) -> bool:
    if column in ("mask", "gateway"):
        return said[:1] == [wanted]
    return row.expected.agrees(column, said)


def _told(column: str, there: Sequence[Device]) -> Iterator[Said]:
    for device in there:
        if column != "gateway":
            yield from (said for said in device.said if said.field == column)
            continue
        # What tells the mask tells the gateway with it; where it has none, it tells none.
        mask = next((said for said in device.said if said.field is Field.MASK), None)
        if mask is not None:
            own = (s for s in device.said if s.field is Field.GATEWAY and s.method is mask.method)
            yield next(own, Said(Field.GATEWAY, _NO_GATEWAY, mask.method))
