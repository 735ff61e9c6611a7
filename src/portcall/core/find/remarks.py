"""Remarks for the engineer about a found device."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator, Sequence
from dataclasses import replace
from ipaddress import IPv4Address, IPv4Interface
from typing import NamedTuple

from portcall.core.address import SELF_ASSIGNED, AddressRange, Mac
from portcall.core.catalog.catalog import Codes, Numbering
from portcall.core.find import sentences as say
from portcall.core.find.device import Asking, Device
from portcall.core.find.sighting import Field
from portcall.core.finding import Finding, Line
from portcall.core.part_path import PartKind
from portcall.core.plan.near import near_misses
from portcall.core.plan.rows import Plan

_ASKS_INSIDE = (
    *(say.MODBUS_GATEWAY, say.MODBUS_SILENT),
    *(say.MODBUS_AS_UNIT, say.MODBUS_UNITS_NAMELESS),
)
"""What is said of a gateway of which one unit or none is known: all are told by another line."""

_MANY_UNITS = 16
"""Units that have to be asked before the one that answers is said to be alone."""


class Remark(NamedTuple):
    """Something about a device, and what of it is true of that device alone.

    ``alone`` is what stands below the device in a list that tells the rest once for all of them;
    None when it is all of that kind.
    """

    whole: Finding
    alone: Finding | None


def remarks(
    device: Device,
    own: Sequence[IPv4Interface] | None,
    plan: Plan,
    maker_defaults: Sequence[AddressRange] = (),
    present: Collection[Mac] = (),
    crowd: Collection[str] = (),
    asked_for: Callable[[IPv4Address], bool] = lambda address: True,
    starting: Collection[IPv4Address] = (),
) -> tuple[Remark, ...]:
    """The remarks about a device.

    ``own`` are the addresses of the adapter it was found on, or None when that adapter is not in
    this computer; ``present`` are all MACs found there, and ``crowd`` the rows that too many of
    them nearly are; ``asked_for`` tells whether it was asked who has an address; at ``starting``
    ones equipment commonly starts.
    """
    row = plan.by_mac(device.mac) if device.mac is not None else None
    starting = [each for each in device.addresses if each in starting]
    if row is not None and row.address in starting:
        starting.remove(row.address)
    found = [Remark(said, said) for said in _itself(device, maker_defaults, starting)]
    found += [Remark(said, None) for said in _among_others(device, own)]
    found += _unrecognised(device)
    if plan.devices:
        found += _against_plan(device, plan, present, crowd, asked_for)
    return tuple(found)


def _itself(
    device: Device, maker_defaults: Sequence[AddressRange], starting: Collection[IPv4Address]
) -> Iterator[Finding]:
    for asking in device.asks:
        if not device.addresses:
            yield _asking(asking)
    if device.ipv6 and not device.addresses and not device.asks:
        yield say.ONLY_IPV6()
    if device.answers_for_others:
        yield say.ANSWERS_FOR_OTHERS(count=len(device.addresses))
    for address in () if device.answers_for_others else device.addresses:
        if address in SELF_ASSIGNED:
            yield say.SELF_ASSIGNED(address=address)
        if any(address in span for span in maker_defaults):
            yield say.MAKERS_DEFAULT(address=address)
        elif address in starting:
            yield say.USUAL_START(address=address)
    for port in device.values(Field.PORT_HERE):
        yield say.PORT_HERE(port=str(port))
    yield from _manners(device)


def _among_others(device: Device, own: Sequence[IPv4Interface] | None) -> Iterator[Finding]:
    for address in () if device.answers_for_others else device.addresses:
        if device.rivals:
            yield say.SHARED_WITH(address=address, rivals=device.rivals)
        if own is not None and not any(address in each.network for each in own):
            yield say.OUTSIDE(Line("match", address), address=address)
    for says in device.values(Field.EITHER):
        yield say.ONE_OF_THEM_SAYS(addresses=device.addresses, says=str(says))
    yield from _mask(device, own or ())


def _asking(asking: Asking) -> Finding:
    every = asking.every
    return say.ASKED_FOR_ONE(
        protocol=asking.protocol,
        times=asking.times,
        several=every is not None,
        every=every if every is not None and every >= 1 else None,
    )


def _manners(device: Device) -> Iterator[Finding]:
    """The behaviour of a device; that it has no address is not repeated where it asked for one."""
    units = [part for part in device.parts if part.path.kind is PartKind.UNIT]
    there = [part for part in units if part.is_there]
    if len(there) == 1 and len(units) >= _MANY_UNITS:
        yield say.ONE_UNIT(unit=there[0].path.number, count=len(units))
    for manner in device.values(Field.MANNER):
        told = manner if isinstance(manner, Finding) else say.SAYS_MANNER(says=str(manner))
        if told.kind in _ASKS_INSIDE and units:
            continue
        if told.kind in _ASKS_INSIDE and device.addresses:
            told = replace(told, line=Line("find", device.addresses[0], "--inside"))
        if told.kind is not say.NO_ADDRESS or not (device.asks or device.addresses):
            yield told


def _mask(device: Device, own: Sequence[IPv4Interface]) -> Iterator[Finding]:
    """A mask that differs from this computer's: some hosts reach the device, others do not."""
    mask = device.mask
    for address in device.addresses:
        ours = next((each for each in own if address in each.network), None)
        if mask and ours and mask != ours.netmask:
            yield say.OTHER_MASK(mask=mask, own_mask=ours.netmask)


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
    codes = [str(each) for each in unrecognised_codes(device)]
    if codes:
        whole = say.NOT_RECOGNISED_ADD(Line("catalog add", "FILE"), codes=codes)
        # If the product is known in words, its own text is shown only in the full listing.
        named = device.value(Field.PRODUCT) is not None
        yield Remark(whole, None if named else say.NOT_RECOGNISED(codes=codes))


def _against_plan(
    device: Device,
    plan: Plan,
    present: Collection[Mac],
    crowd: Collection[str],
    asked_for: Callable[[IPv4Address], bool],
) -> list[Remark]:
    if device.mac is None:
        return [
            Remark(say.NOT_PLANNED(), None)
            for address in device.addresses
            if plan.by_address(address) is None
        ]
    row = plan.by_mac(device.mac)
    if row:
        if row.address in device.addresses or (device.asks and not device.addresses):
            return []
        sentence, line = say.PLANNED_AT, Line("move", row.name)
        if device.addresses and not asked_for(row.address):
            # A router, or any device with several addresses, may also be there.
            sentence, line = say.PLANNED_AT_UNASKED, Line("verify", row.name)
        return [Remark(sentence(line, planned=row.address), sentence(planned=row.address))]
    near = near_misses(device.mac, plan, present)
    named = [Remark(miss.finding, None) for miss in near if miss.row.name not in crowd]
    if named:
        return named
    return _by_address(device.addresses, plan)


def _by_address(addresses: Sequence[IPv4Address], plan: Plan) -> list[Remark]:
    rows = [row for address in addresses if (row := plan.by_address(address))]
    if not rows:
        return [Remark(say.NOT_PLANNED(), None)]
    found = []
    for row in rows:
        if row.mac:
            told = say.ANOTHERS_PLACE(planned_mac=row.mac, address=row.address, name=row.name)
            found.append(Remark(told, None))
        else:
            lacks = say.ROW_WITHOUT_MAC(name=row.name)
            found.append(Remark(lacks, lacks))
    return found
