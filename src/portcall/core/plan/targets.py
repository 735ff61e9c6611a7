"""Which devices or addresses are meant by what was typed, and by the names of the plan."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from difflib import get_close_matches
from ipaddress import IPv4Address, IPv4Network

from portcall.core.address import (
    AddressError,
    AddressRange,
    Mac,
    check_device_address,
    is_ipv6,
    is_written_as_mac,
    joined,
    parse_address,
    parse_mac,
    parse_range,
    parse_subnet,
)
from portcall.core.finding import Line, Name
from portcall.core.part_path import PartKind, PartPath, parse_path
from portcall.core.plan.rows import Plan, PlannedDevice
from portcall.core.printable import printable
from portcall.core.trouble import BadInput

MOST_ADDRESSES = 65_536
_MOST_ADDRESSES_AT_ALL = 16_777_216


def parse_target(text: str, plan: Plan) -> IPv4Address | IPv4Network:
    """A device's address, a subnet, or the name or MAC of a planned device. Raises BadInput."""
    row = row_of(text, plan)
    if row:
        return row.address
    looks_numeric = text[:1].isdigit() and all(c.isdigit() or c in "./" for c in text)
    if not looks_numeric and not is_ipv6(text):
        raise unknown(f"{printable(text, 60)}: is no address, and", text, plan)
    if "/" in text:
        return parse_subnet(text)
    address = parse_address(text)
    check_device_address(address)
    return address


def parse_targets(
    texts: Sequence[str], plan: Plan, large: bool = False
) -> tuple[AddressRange, ...]:
    """Addresses, ranges, subnets, and names or MACs of planned devices. Raises BadInput."""
    spans = []
    for text in texts:
        row = row_of(text, plan)
        if row:
            spans.append(AddressRange(row.address, row.address))
        elif text[:1].isdigit() or is_ipv6(text):
            spans.append(parse_range(text))
        else:
            raise unknown(f"{printable(text, 60)}: is no address or range, and", text, plan)
    return bounded(joined(spans), large)


def row_of(text: str, plan: Plan) -> PlannedDevice | None:
    """The row that is named, or whose MAC this is. Raises BadInput for a MAC that no row has."""
    row = plan.by_name(text)
    if row is not None or not is_written_as_mac(text):
        return row
    mac = parse_mac(text)
    row = plan.by_mac(mac)
    if row is None:
        raise BadInput(f"{mac}: is the MAC of no row of the plan", "name the device's address here")
    return row


def bounded(ranges: tuple[AddressRange, ...], large: bool = False) -> tuple[AddressRange, ...]:
    """The ranges, unless they are more than anybody means. Raises AddressError."""
    total = sum(len(span) for span in ranges)
    most = _MOST_ADDRESSES_AT_ALL if large else MOST_ADDRESSES
    if total > most:
        shown = ", ".join(str(span) for span in ranges)
        lifted = "" if large else ", or lift the limit with --large"
        raise AddressError(
            f"{shown}: has {total:,} addresses; one sweep takes at most {most:,}",
            f"name a smaller range{lifted}",
        )
    return ranges


@dataclass(frozen=True, slots=True)
class Meant:
    """A device as it was typed: a planned row, a MAC, or where it is; what is not known is None."""

    words: str
    row: PlannedDevice | None = None
    mac: Mac | None = None
    address: IPv4Address | None = None

    @property
    def name(self) -> Name:
        """The name by which it is known here."""
        return self.row.name if self.row else Name(self.words)


def parse_noted(text: str, plan: Plan) -> Meant:
    """Whom a note is about: as ``parse_device``, or a part that need not be planned. BadInput."""
    device, part = parse_part(text, plan)
    if part is None:
        found = parse_device(text, plan, parts=True)
        row = found.row
        address = found.address or (row.address if row is not None else None)
        return Meant(found.name, row, found.mac, address)
    around = parse_device(device, plan)
    address = around.address or (around.row.address if around.row is not None else None)
    row = None if address is None else plan.row_of_part(around.mac, [address], part.path)
    return Meant(row.name if row is not None else part.name, row, None, address)


def first_address(meant: Sequence[Meant]) -> IPv4Address | None:
    """The address of the first of some devices, where it is or is planned; None where unknown."""
    for each in meant[:1]:
        return each.address or (each.row.address if each.row is not None else None)
    return None


def parse_device(text: str, plan: Plan, parts: bool = False) -> Meant:
    """A planned name, a MAC, or an address. Raises BadInput.

    A part that has no address of its own is meant only where ``parts`` are.
    """
    row = plan.by_name(text)
    if row is not None and row.has_no_address and not parts:
        raise BadInput(
            f"{row.name}: is {row.part} of {row.of}, and has no address of its own",
            f"name {row.of}",
        )
    if row is not None:
        return Meant(text, row, row.mac)
    shown = printable(text, 60)
    if is_written_as_mac(text):
        mac = parse_mac(text)
        return Meant(str(mac), plan.by_mac(mac), mac)
    if text[:1].isdigit() or is_ipv6(text):
        try:
            address = parse_address(text)
            check_device_address(address)
        except AddressError as error:
            raise BadInput(
                f"{error}", "a device is named by its plan row, its MAC or address"
            ) from None
        row = plan.by_address(address)
        return Meant(str(address), row, None, address)
    raise unknown(f"{shown}: is no address, no MAC, and", text, plan)


@dataclass(frozen=True, slots=True)
class MeantPart:
    """A part of a device as it was typed, and the name by which it is typed again."""

    path: PartPath
    name: Name


def parse_part(text: str, plan: Plan) -> tuple[str, MeantPart | None]:
    """What stands for the device in ``NAME:PART``, or in a part's own name; and the part, if any.

    An interface with an address of its own is a device here. Raises BadInput.
    """
    row = plan.by_name(text)
    if row is not None:
        if row.part is None or not row.has_no_address:
            return text, None
        return str(row.of), MeantPart(row.part, row.name)
    device, colon, words = text.partition(":")
    if not colon or is_written_as_mac(text) or is_ipv6(text):
        return text, None
    path = parse_path(words)
    planned = plan.by_name(device)
    named = planned.name if planned is not None else device
    return device, MeantPart(path, Name(f"{named}:{path.word}"))


def with_part(target: str | None, door: str | None) -> tuple[str | None, str | None]:
    """``NAME:unit 17`` as a shell takes it apart, put together again."""
    if target is None or door is None or not door.isdecimal():
        return target, door
    kind = target.rpartition(":")[2].casefold()
    if ":" in target and kind in set(PartKind):
        return f"{target} {door}", None
    return target, door


def rows_of_group(group: str, plan: Plan) -> list[PlannedDevice]:
    """The rows of a group, in upper or lower case, in their order. Raises BadInput."""
    folded = group.strip().casefold()
    rows = [row for row in plan.rows if row.group.casefold() == folded]
    if not rows:
        groups = ", ".join(dict.fromkeys(row.group for row in plan.rows if row.group))
        there = f"there are {groups}" if groups else "no row of the plan has a group"
        raise BadInput(f"--group {printable(group, 60)}: is no group of the plan", f"{there}")
    return rows


def with_group(
    names: Sequence[str], group: str | None, plan: Plan, parts: bool = False
) -> tuple[str, ...]:
    """The typed names, and those of a group's rows, if one was named. Raises BadInput.

    Of ``parts`` that have no address of their own only those who judge them want to know.
    """
    if group is None:
        return tuple(names)
    rows = rows_of_group(group, plan)
    chosen = (row.name for row in rows if parts or not row.has_no_address)
    return tuple(dict.fromkeys((*names, *chosen)))


_ALIKE = 0.75
"""How much of a name has to be the same; one wrong letter of six."""


def unknown(what: str, text: str, plan: Plan) -> BadInput:
    """The refusal of a name that nobody knows; ``what`` begins it, what may be meant ends it."""
    rows = {row.name.casefold(): row.name for row in plan.rows}
    if not rows:
        return BadInput(f"{what} there is no plan here that could name it")
    close = get_close_matches(text.casefold(), rows, n=3, cutoff=_ALIKE)
    if not close:
        return BadInput(f"{what} not in the plan", Line("plan show"))
    meant = " or ".join(rows[each] for each in close)
    return BadInput(f"{what} not in the plan", f"did you mean {meant}?")
