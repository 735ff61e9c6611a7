"""What an engineer should know about a found device, in plain words."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator, Sequence
from ipaddress import IPv4Address, IPv4Interface
from typing import NamedTuple

from portcall.core.address import SELF_ASSIGNED, AddressRange, Mac
from portcall.core.catalog.catalog import Codes, Numbering
from portcall.core.find.device import Asking, Device
from portcall.core.find.sighting import Field
from portcall.core.plan.near import near_misses
from portcall.core.plan.rows import Plan


class Remark(NamedTuple):
    """A sentence about a device, and what of it is true of that device alone.

    ``alone`` is what stands below the device in a list that tells the rest once for all of them;
    None when it is all of that kind.
    """

    whole: str
    alone: str | None


def remarks(
    device: Device,
    own: Sequence[IPv4Interface] | None,
    plan: Plan,
    maker_defaults: Sequence[AddressRange] = (),
    present: Collection[Mac] = (),
    crowd: Collection[str] = (),
    asked_for: Callable[[IPv4Address], bool] = lambda address: True,
) -> tuple[Remark, ...]:
    """The remarks about a device, one sentence each.

    ``own`` are the addresses of the adapter it was found on, or None when that adapter is not in
    this computer; ``present`` are all MACs found there, and ``crowd`` the rows that too many of
    them nearly are; ``asked_for`` tells whether it was asked who has an address.
    """
    found = [Remark(said, said) for said in _itself(device, maker_defaults)]
    found += [Remark(said, None) for said in _among_others(device, own)]
    found += _unrecognised(device)
    if plan.devices:
        found += _against_plan(device, plan, present, crowd, asked_for)
    return tuple(found)


def _itself(device: Device, maker_defaults: Sequence[AddressRange]) -> Iterator[str]:
    for asking in device.asks:
        if not device.addresses:
            yield f"has no address, asked for one by {asking.protocol} {_often(asking)}"
    if device.ipv6 and not device.addresses and not device.asks:
        yield "has only an IPv6 address of this link"
    if device.answers_for_others:
        yield (
            f"answers ARP for {len(device.addresses)} addresses, as a router does for others "
            "(proxy ARP): those beyond the first few are not asked who they are"
        )
    for address in () if device.answers_for_others else device.addresses:
        if address in SELF_ASSIGNED:
            yield "self-assigned address: a device takes one when nobody gives it an address"
        if any(address in span for span in maker_defaults):
            yield "maker's default address"
    yield from _manners(device)


def _among_others(device: Device, own: Sequence[IPv4Interface] | None) -> Iterator[str]:
    for address in () if device.answers_for_others else device.addresses:
        if device.rivals:
            others = ", ".join(str(mac) for mac in device.rivals)
            yield f"{address} is shared with {others}"
        if own is not None and not any(address in each.network for each in own):
            yield f"outside this adapter's subnets: portcall match {address}"
    for said in device.values(Field.EITHER):
        at = ", ".join(map(str, device.addresses))
        yield f"one of those at {at} says: {said}"
    yield from _mask(device, own or ())


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


def unrecognised_codes(device: Device) -> list[Codes]:
    """The numbers in which a device says what it is, where no catalogue names them."""
    if device.value(Field.MAKER) and device.value(Field.PRODUCT):
        return []
    return [
        codes
        for codes in device.codes
        if codes.numbering in (Numbering.CIP, Numbering.DCP) or not device.value(Field.MAKER)
    ]


def _unrecognised(device: Device) -> Iterator[Remark]:
    unknown = unrecognised_codes(device)
    if unknown:
        said = f"not recognised: {'; '.join(map(str, unknown))}"
        advice = "; a description file of its maker would name it: portcall catalog add FILE"
        # A device whose product is known in words is told of in full where all is told.
        yield Remark(said + advice, None if device.value(Field.PRODUCT) else said)


def _against_plan(
    device: Device,
    plan: Plan,
    present: Collection[Mac],
    crowd: Collection[str],
    asked_for: Callable[[IPv4Address], bool],
) -> list[Remark]:
    if device.mac is None:
        return [
            Remark("not in the plan", None)
            for address in device.addresses
            if plan.by_address(address) is None
        ]
    row = plan.by_mac(device.mac)
    if row:
        if row.address in device.addresses or (device.asks and not device.addresses):
            return []
        said = f"planned at {row.address}"
        if device.addresses and not asked_for(row.address):
            # A router, and whoever else has several addresses, may be there, too.
            said += ", where it was not asked for"
            return [Remark(f"{said}: portcall verify {row.name}", said)]
        return [Remark(f"{said}: portcall move {row.name}", said)]
    near = near_misses(device.mac, plan, present)
    named = [Remark(str(miss), None) for miss in near if miss.row.name not in crowd]
    if named:
        return named
    return _by_address(device.addresses, plan)


def _by_address(addresses: Sequence[IPv4Address], plan: Plan) -> list[Remark]:
    rows = [row for address in addresses if (row := plan.by_address(address))]
    if not rows:
        return [Remark("not in the plan", None)]
    return [
        Remark(f"the plan has {row.mac} at {row.address} ({row.name})", None)
        if row.mac
        else Remark(no_mac, no_mac)
        for row in rows
        for no_mac in (f"at the address of {row.name}, whose MAC the plan does not have yet",)
    ]
