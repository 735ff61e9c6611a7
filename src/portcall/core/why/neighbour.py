"""The rung of the wire: who answers ARP for the goal, or for the router that leads there."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from ipaddress import IPv4Address

from portcall.core.address import Mac, assumed_network
from portcall.core.find.device import Device
from portcall.core.find.sighting import Field, Method
from portcall.core.finding import Finding, Line, Value
from portcall.core.plan.near import difference
from portcall.core.plan.rows import Plan, PlannedDevice
from portcall.core.why import sentences as say
from portcall.core.why.evidence import Situation, Sought, WireSeen
from portcall.core.why.ladder import Advice, Cause, Goal, Rung, Step, broken, holds, not_asked
from portcall.core.why.who_has import MOST_ANSWERS


def judge_neighbour(
    goal: Goal, here: Situation, wire: WireSeen, plates: Mapping[Mac, str] | None = None
) -> Step | None:
    """The rung by the MACs that answer; None without any, which takes a look around to judge.

    ``plates`` say what each of several devices is that answer.
    """
    first = here.way.router or goal.address
    macs = wire.macs(first)
    if wire.answers is None:
        return not_asked(Rung.NEIGHBOUR, say.ARP_NOT_ASKED())
    fixed = here.fixed.get(first)
    if len(macs) > 1 and wire.is_one_device(macs):
        return holds(Rung.NEIGHBOUR, say.ONE_DEVICE(first=first, macs=macs))
    if len(macs) > 1:
        return _shared(here, first, macs, plates or {})
    if not macs and fixed is not None:
        return holds(Rung.NEIGHBOUR, say.FIXED_SILENT(first=first, fixed=fixed))
    if not macs:
        return None
    (mac,) = macs
    if fixed is not None and fixed != mac:
        return _fixed_otherwise(here, first, mac, fixed)
    planned = here.row.mac if here.row is not None and here.way.router is None else None
    if planned is not None and mac != planned:
        return _wrong(goal, here, wire, mac, planned)
    is_router = here.way.router is not None
    who: dict[str, Value] = {
        "is_router": is_router,
        "first": first,
        "holder": here.plan.named(mac) if is_router else mac,
        "as_planned": planned is not None,
    }
    if wire.by_kernel:
        remembered = wire.is_remembered(first)
        return holds(Rung.NEIGHBOUR, say.IN_OWN_TABLE(**who, remembered=remembered))
    return holds(Rung.NEIGHBOUR, say.ANSWERS_ARP(**who, for_all=wire.for_all))


def _shared(
    here: Situation, first: IPv4Address, macs: Sequence[Mac], plates: Mapping[Mac, str]
) -> Step:
    holders = [say.HELD_BY(holder=here.plan.named(mac), plate=plates.get(mac)) for mac in macs]
    told: dict[str, Value] = {
        "at_least": len(macs) >= MOST_ANSWERS,
        "count": len(macs),
        "first": first,
        "holders": holders,
    }
    return broken(
        Rung.NEIGHBOUR,
        say.SEVERAL_ANSWER(**told),
        Cause.ADDRESS_SHARED,
        say.HAVE_ONE_ADDRESS(**told),
        say.UNPLUG_ONE(),
    )


def _fixed_otherwise(here: Situation, first: IPv4Address, mac: Mac, fixed: Mac) -> Step:
    told: dict[str, Value] = {"first": first, "mac": mac, "fixed": fixed}
    return broken(
        Rung.NEIGHBOUR,
        say.FIXED_OTHERWISE(**told),
        Cause.FIXED_NEIGHBOUR,
        say.SENT_TO_FIXED(**told),
        say.DROP_FIXED(first=first, adapter=here.adapter.name, lladdr=_colons(fixed), mac=fixed),
    )


def _colons(mac: Mac) -> str:
    """As the operating system's own commands write it."""
    return str(mac).replace("-", ":")


def _wrong(goal: Goal, here: Situation, wire: WireSeen, mac: Mac, planned: Mac) -> Step:
    address, other = goal.address, here.plan.by_mac(mac)
    how = difference(mac, planned) if other is None else None
    concluded: Finding = say.NOT_IN_PLAN(address=address, mac=mac)
    do: Advice = say.LOOK_WHICH_DEVICE()
    if other is not None:
        concluded = say.ANOTHER_PLANNED(address=address, other=other.name, mac=mac)
        do = Line("move", other.name)
    elif how:
        concluded = say.ALMOST_PLANNED(address=address, mac=mac, how=how, planned=planned)
        do = say.COMPARE_LABEL()
    seen = say.ANOTHER_ANSWERS(
        address=address,
        mac=mac,
        by_kernel=wire.by_kernel,
        remembered=wire.is_remembered(address),
        planned=planned,
    )
    return broken(Rung.NEIGHBOUR, seen, Cause.WRONG_DEVICE, concluded, do)


def judge_nobody(goal: Goal, here: Situation, sought: Sought, wire: WireSeen) -> Step:
    """Nobody answered ARP: where the device is instead, or what a look around tells."""
    first = here.way.router or goal.address
    devices = [each for each in sought.devices or () if each.mac not in wire.for_all]
    others = _others(here, devices, first)
    company = _company(others) if sought.devices is not None else say.NOT_SOUGHT()
    row = here.row

    def nobody(
        company: Finding | None = None, found: Finding | None = None, near: Finding | None = None
    ) -> Finding:
        return say.NOBODY_ANSWERS(
            first=first,
            for_all=wire.for_all,
            is_router=here.way.router is not None,
            address=goal.address,
            company=company,
            found=found,
            near=near,
        )

    if here.way.router is not None:
        return broken(
            Rung.NEIGHBOUR,
            nobody(company),
            Cause.ROUTER_SILENT,
            say.ROUTER_DUMB(first=first, goal=goal.name),
            say.ROUTER_POWER(),
            say.ROUTER_ADDRESS(first=first),
        )
    own = _device_of(row, devices)
    late = next((each for each in devices if first in each.addresses and each.mac), None)
    if late is not None and (row is None or row.mac in (None, late.mac)):
        return holds(Rung.NEIGHBOUR, say.ANSWERS_LATE(first=first, mac=late.mac))
    if own is not None and row is not None:
        found = _found(goal, row, own)
        if found is not None:
            seen, cause, concluded, line = found
            return broken(Rung.NEIGHBOUR, nobody(found=seen), cause, concluded, line)
    concluded = say.NOTHING_THERE_UNSOUGHT(address=goal.address, company=company)
    if sought.devices is not None:
        concluded = say.NOTHING_THERE(
            address=goal.address,
            mac_sought=row is not None and row.mac is not None,
            others=len(others),
        )
    return broken(
        Rung.NEIGHBOUR,
        nobody(company, near=_near(row, here.plan, devices)),
        Cause.NOBODY_THERE,
        concluded,
        *_where_to_look(others),
    )


def _found(
    goal: Goal, row: PlannedDevice, own: Device
) -> tuple[Finding, Cause, Finding, Line] | None:
    """The planned MAC was heard, and not at the goal's address."""
    elsewhere = [address for address in own.addresses if address != goal.address]
    if elsewhere:
        return (
            say.FOUND_AT(mac=own.mac, found_at=elsewhere),
            Cause.MOVED,
            say.IS_AT(goal=row.name, found_at=elsewhere, address=goal.address),
            Line("move", row.name),
        )
    if own.asks:
        asks = tuple(dict.fromkeys(asking.protocol for asking in own.asks))
        return (
            say.FOUND_ASKING(mac=own.mac, asks=asks),
            Cause.ASKING,
            say.ASKS(goal=row.name, asks=asks),
            Line("assign", row.name, "--keep"),
        )
    if Method.DCP in own.methods:
        return (
            say.FOUND_UNSET(mac=own.mac),
            Cause.UNSET,
            say.HAS_NONE(goal=row.name),
            Line("move", row.name),
        )
    return None


def _device_of(row: PlannedDevice | None, devices: Sequence[Device]) -> Device | None:
    if row is None or row.mac is None:
        return None
    return next((device for device in devices if device.mac == row.mac), None)


def _others(here: Situation, devices: Sequence[Device], first: IPv4Address) -> list[Device]:
    """Devices that answer in the subnet of an address."""
    own = here.adapter.on_subnet_of(first)
    network = own.network if own else here.own_prefix or assumed_network(first)
    return [
        device
        for device in devices
        if any(each in network and each != first for each in device.addresses)
    ]


def _company(others: Sequence[Device]) -> Finding:
    if not others:
        return say.ALONE()
    named = [device.value(Field.NAME) or device.addresses[0] for device in others]
    return say.COMPANY(others=len(others), others_named=named)


def _near(row: PlannedDevice | None, plan: Plan, devices: Sequence[Device]) -> Finding | None:
    if row is None or row.mac is None:
        return None
    for device in devices:
        how = difference(device.mac, row.mac) if device.mac else None
        if device.mac and how and plan.by_mac(device.mac) is None:
            return say.FOUND_NEAR(
                near_mac=device.mac,
                near_at=next(iter(device.addresses), None),
                near_asks=bool(device.asks),
                how=how,
            )
    return None


def _where_to_look(others: Sequence[Device]) -> tuple[Advice, ...]:
    if others:
        return (say.DEVICE_POWER(), Line("find", "--watch"))
    return (say.PLANT_CABLE(), say.RIGHT_ADAPTER(adapters=Line("adapters", "--watch")))
