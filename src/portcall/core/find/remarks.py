"""What an engineer should know about a found device, in plain words."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Sequence
from ipaddress import IPv4Address, IPv4Interface

from portcall.core.address import SELF_ASSIGNED, AddressRange, Mac
from portcall.core.catalog.catalog import Numbering
from portcall.core.find.device import Asking, Device
from portcall.core.find.sighting import Field
from portcall.core.plan.near import near_misses
from portcall.core.plan.rows import Plan


def remarks(
    device: Device,
    own: Sequence[IPv4Interface] | None,
    plan: Plan,
    maker_defaults: Sequence[AddressRange] = (),
    present: Collection[Mac] = (),
    crowd: Collection[str] = (),
) -> tuple[str, ...]:
    """The remarks about a device, one sentence each.

    ``own`` are the addresses of the adapter it was found on, or None when that adapter is not in
    this computer; ``present`` are all MACs found there, and ``crowd`` the rows that too many of
    them nearly are.
    """
    found: list[str] = []
    for asking in device.asks:
        if not device.addresses:
            found.append(f"has no address, asked for one by {asking.protocol} {_often(asking)}")
    if device.ipv6 and not device.addresses and not device.asks:
        found.append("has only an IPv6 address of this link")
    if device.answers_for_others:
        found.append(
            f"answers ARP for {len(device.addresses)} addresses, as a router does for others "
            "(proxy ARP): those beyond the first few are not asked who they are"
        )
    for address in () if device.answers_for_others else device.addresses:
        if device.rivals:
            others = ", ".join(str(mac) for mac in device.rivals)
            found.append(f"{address} is shared with {others}")
        if address in SELF_ASSIGNED:
            found.append("self-assigned address, as a device takes that is given none")
        if any(address in span for span in maker_defaults):
            found.append("maker's default address")
        if own is not None and not any(address in each.network for each in own):
            found.append(f"outside this adapter's subnets: portcall match {address}")
    found.extend(_manners(device))
    found.extend(_mask(device, own or ()))
    found.extend(_unrecognised(device))
    if plan.devices:
        found.extend(_against_plan(device, plan, present, crowd))
    return tuple(found)


def _often(asking: Asking) -> str:
    if asking.every is None:
        return "once"
    seconds = f", every {asking.every:.0f} s" if asking.every >= 1 else ""
    return f"{asking.times} times{seconds}"


def _manners(device: Device) -> Iterator[str]:
    """What it said or did; that it has no address is not repeated where it asked for one."""
    for manner in device.values(Field.MANNER):
        known = device.asks or device.addresses
        if manner != "has no address" or not known:
            yield manner


def _mask(device: Device, own: Sequence[IPv4Interface]) -> Iterator[str]:
    """A mask that differs from this computer's: some hosts reach the device, others do not."""
    mask = device.value(Field.MASK)
    for address in device.addresses:
        ours = next((each for each in own if address in each.network), None)
        if mask and ours and mask != str(ours.netmask):
            yield f"its mask is {mask}, this computer's there is {ours.netmask}"


def _unrecognised(device: Device) -> Iterator[str]:
    """The device says what it is only in numbers that no catalogue names."""
    named = device.value(Field.MAKER) and device.value(Field.PRODUCT)
    unknown = [
        codes
        for codes in device.codes
        if codes.numbering in (Numbering.CIP, Numbering.DCP) or not device.value(Field.MAKER)
    ]
    if unknown and not named:
        shown = "; ".join(str(codes) for codes in unknown)
        yield (
            f"not recognised: {shown}; a description file of its maker would name it: "
            "portcall catalog add FILE"
        )


def _against_plan(
    device: Device, plan: Plan, present: Collection[Mac], crowd: Collection[str]
) -> list[str]:
    if device.mac is None:
        return [
            "not in the plan" for address in device.addresses if plan.by_address(address) is None
        ]
    row = plan.by_mac(device.mac)
    if row:
        if row.address in device.addresses or (device.asks and not device.addresses):
            return []
        return [f"planned at {row.address}: portcall move {row.name}"]
    near = near_misses(device.mac, plan, present)
    named = [str(miss) for miss in near if miss.row.name not in crowd]
    if named:
        return named
    return _by_address(device.addresses, plan)


def _by_address(addresses: Sequence[IPv4Address], plan: Plan) -> list[str]:
    rows = [row for address in addresses if (row := plan.by_address(address))]
    if not rows:
        return ["not in the plan"]
    return [
        f"the plan has {row.mac} at {row.address} ({row.name})"
        if row.mac
        else f"at the address of {row.name}, whose MAC the plan does not have yet"
        for row in rows
    ]
