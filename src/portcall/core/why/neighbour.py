"""The rung of the wire: who answers ARP for the goal, or for the router that leads there."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from ipaddress import IPv4Address

from portcall.core.address import Mac, assumed_network
from portcall.core.find.device import Device
from portcall.core.find.sighting import Field, Method
from portcall.core.plan.near import difference
from portcall.core.plan.rows import Plan, PlannedDevice
from portcall.core.why.evidence import Situation, Sought, WireSeen
from portcall.core.why.ladder import Cause, Goal, Rung, Step, broken, holds, not_asked
from portcall.core.why.who_has import MOST_ANSWERS

_MOST_SHOWN = 3
_OWN_TABLE = ", by this computer's own ARP table"
_MAY_BE_OLD = f"{_OWN_TABLE}, which may be some minutes old"
_NOT_SOUGHT = "who else is there, and where the device is, was not asked: run this with sudo"


def judge_neighbour(
    goal: Goal, here: Situation, wire: WireSeen, plates: Mapping[Mac, str] | None = None
) -> Step | None:
    """Who answers; None when nobody does, which takes a look around to judge.

    ``plates`` say what each of several devices is that answer.
    """
    first = here.way.router or goal.address
    macs = wire.macs(first)
    if wire.answers is None:
        return not_asked(
            Rung.NEIGHBOUR, "ARP needs root or CAP_NET_RAW, and was not asked; run this with sudo"
        )
    fixed = here.fixed.get(first)
    if len(macs) > 1 and wire.is_one_device(macs):
        plugs = " and ".join(str(mac) for mac in macs[:_MOST_SHOWN])
        return holds(
            Rung.NEIGHBOUR, f"{first} answers ARP by {plugs}: plugs of one device on this wire"
        )
    if len(macs) > 1:
        said = plates or {}
        few = "at least " if len(macs) >= MOST_ANSWERS else ""
        shown = " and ".join(
            f"{here.plan.named(mac)}{f', {said[mac]}' if said.get(mac) else ''}"
            for mac in macs[:_MOST_SHOWN]
        )
        more = f" and {len(macs) - _MOST_SHOWN} more" if len(macs) > _MOST_SHOWN else ""
        return broken(
            Rung.NEIGHBOUR,
            f"{few}{len(macs)} MACs answer ARP for {first}: {shown}{more}",
            Cause.ADDRESS_SHARED,
            f"{few[:1].upper()}{few[1:]}{len(macs)} devices have the address {first}: "
            f"{shown}{more}.",
            "unplug one of them, and type this again: it says which of them is left",
        )
    if not macs and fixed is not None:
        return holds(
            Rung.NEIGHBOUR,
            f"nobody answers ARP for {first}; this computer's own table has {fixed} for it, fixed",
        )
    if not macs:
        return None
    (mac,) = macs
    if fixed is not None and fixed != mac:
        return _fixed_otherwise(here, first, mac, fixed)
    planned = here.row.mac if here.row is not None and here.way.router is None else None
    if planned is not None and mac != planned:
        return _wrong(goal, here, mac, planned, _by_whom(wire, first))
    if here.way.router is not None:
        named = here.plan.named(mac)
        if wire.by_kernel:
            return holds(Rung.NEIGHBOUR, f"router {first} is {named}{_by_whom(wire, first)}")
        return holds(Rung.NEIGHBOUR, f"router {first} answers ARP, {named}{_for_all(wire)}")
    as_planned = ", as planned" if planned is not None else ""
    if wire.by_kernel:
        return holds(Rung.NEIGHBOUR, f"{first} is {mac}{as_planned}{_by_whom(wire, first)}")
    return holds(Rung.NEIGHBOUR, f"{first} answers ARP, {mac}{as_planned}{_for_all(wire)}")


def _by_whom(wire: WireSeen, address: IPv4Address) -> str:
    if not wire.by_kernel:
        return ""
    return _MAY_BE_OLD if wire.is_remembered(address) else _OWN_TABLE


def _fixed_otherwise(here: Situation, first: IPv4Address, mac: Mac, fixed: Mac) -> Step:
    name = here.adapter.name
    return broken(
        Rung.NEIGHBOUR,
        f"{first} answers ARP, {mac}; this computer's own table has {fixed} for it, fixed",
        Cause.FIXED_NEIGHBOUR,
        f"This computer sends what is for {first} to {fixed}, by a fixed entry in its own ARP "
        f"table, and {first} is at {mac}.",
        f"ip neigh del {first} dev {name}; and back: "
        f"ip neigh replace {first} lladdr {_colons(fixed)} dev {name} nud permanent",
    )


def _colons(mac: Mac) -> str:
    """As the operating system's own commands write it."""
    return str(mac).replace("-", ":")


def _for_all(wire: WireSeen) -> str:
    if not wire.for_all:
        return ""
    macs = " and ".join(str(mac) for mac in wire.for_all[:_MOST_SHOWN])
    return f"; {macs} answers for everybody here (proxy ARP)"


def _wrong(goal: Goal, here: Situation, mac: Mac, planned: Mac, told: str) -> Step:
    other = here.plan.by_mac(mac)
    how = difference(mac, planned) if other is None else None
    if other is not None:
        who, do = f"{other.name}, {mac}", f"portcall move {other.name}"
    elif how:
        who, do = f"{mac}, which {how} the planned {planned}", "compare the label with the plan"
    else:
        who, do = f"{mac}, which is not in the plan", "look which device was put in its place"
    return broken(
        Rung.NEIGHBOUR,
        f"{goal.address} is answered by {mac}{told}; planned is {planned}",
        Cause.WRONG_DEVICE,
        f"Another device is at {goal.address}: {who}.",
        do,
    )


def judge_nobody(goal: Goal, here: Situation, sought: Sought, wire: WireSeen) -> Step:
    """Nobody answered ARP: where the device is instead, or what a look around tells."""
    first = here.way.router or goal.address
    devices = [each for each in sought.devices or () if each.mac not in wire.for_all]
    others = _others(here, devices, first)
    evidence = f"nobody answers ARP for {first}{_for_all(wire)}"
    company = _company(others, first) if sought.devices is not None else _NOT_SOUGHT
    if here.way.router is not None:
        return broken(
            Rung.NEIGHBOUR,
            f"{evidence}, the router to {goal.address}; {company}",
            Cause.ROUTER_SILENT,
            f"The router {first} does not answer, and {goal.name} is behind it.",
            "check the router's power and its cable to this side",
            "check that its address here is really " + str(first),
        )
    row = here.row
    own = _device_of(row, devices)
    late = next((each for each in devices if first in each.addresses and each.mac), None)
    if late is not None and (row is None or row.mac in (None, late.mac)):
        return holds(Rung.NEIGHBOUR, f"{first} answers ARP now, {late.mac}, and did not at first")
    if own is not None and row is not None:
        step = _found(goal, row, own, evidence)
        if step is not None:
            return step
    return broken(
        Rung.NEIGHBOUR,
        f"{evidence}; {company}{_near(row, here.plan, devices)}",
        Cause.NOBODY_THERE,
        _nobody_words(goal, row, others)
        if sought.devices is not None
        else f"Nothing answers at {goal.address}; {_NOT_SOUGHT}.",
        *_where_to_look(others),
    )


def _found(goal: Goal, row: PlannedDevice, own: Device, evidence: str) -> Step | None:
    """The planned MAC was heard, and not at the goal's address."""
    elsewhere = [address for address in own.addresses if address != goal.address]
    if elsewhere:
        at = " and ".join(str(address) for address in elsewhere)
        return broken(
            Rung.NEIGHBOUR,
            f"{evidence}; {own.mac} is at {at}",
            Cause.MOVED,
            f"{row.name} is at {at}, not at {goal.address}.",
            f"portcall move {row.name}",
        )
    if own.asks:
        asks = " and ".join(dict.fromkeys(str(asking.protocol) for asking in own.asks))
        return broken(
            Rung.NEIGHBOUR,
            f"{evidence}; {own.mac} asks for an address by {asks}",
            Cause.ASKING,
            f"{row.name} has no address, and asks for one by {asks}.",
            f"portcall assign {row.name} --keep",
        )
    if Method.DCP in own.methods:
        return broken(
            Rung.NEIGHBOUR,
            f"{evidence}; {own.mac} answers DCP, and has no address",
            Cause.UNSET,
            f"{row.name} is there, has no address, and does not ask for one.",
            f"portcall move {row.name}",
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


def _company(others: Sequence[Device], first: IPv4Address) -> str:
    if not others:
        return "nobody else answers in its subnet either"
    named = [device.value(Field.NAME) or str(device.addresses[0]) for device in others]
    shown = ", ".join(named[:_MOST_SHOWN]) + (", …" if len(named) > _MOST_SHOWN else "")
    many = "answers" if len(others) == 1 else "answer"
    return f"{len(others)} other{'s' if len(others) > 1 else ''} in its subnet {many} ({shown})"


def _near(row: PlannedDevice | None, plan: Plan, devices: Sequence[Device]) -> str:
    if row is None or row.mac is None:
        return ""
    for device in devices:
        how = difference(device.mac, row.mac) if device.mac else None
        if device.mac and how and plan.by_mac(device.mac) is None:
            at = f" at {device.addresses[0]}" if device.addresses else ""
            asks = ", which asks for an address" if device.asks else ""
            return f"; {device.mac}{at}{asks}, {how} the planned MAC: check the label"
    return ""


def _nobody_words(goal: Goal, row: PlannedDevice | None, others: Sequence[Device]) -> str:
    sought = "" if row is None or row.mac is None else ", and its MAC was not heard"
    if others:
        return (
            f"Nothing answers at {goal.address}{sought}; cable and this computer are fine, "
            "since others in that subnet answer."
        )
    return f"Nothing answers at {goal.address}{sought}, nor anybody else in that subnet."


def _where_to_look(others: Sequence[Device]) -> tuple[str, ...]:
    if others:
        return ("check the device's power and its own cable", "portcall find --watch")
    return (
        "check the cable from this computer's switch to the plant, and the plant's power",
        "check that this is the right adapter: portcall adapters --watch",
    )
