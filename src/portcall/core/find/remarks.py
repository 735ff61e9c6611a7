"""What an engineer should know about a found device, in plain words."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from ipaddress import IPv4Address, IPv4Interface

from portcall.core.address import AddressRange, Mac
from portcall.core.assign.near import near_misses
from portcall.core.find.devices import Device
from portcall.core.plan import Plan


def remarks(
    device: Device,
    own: Sequence[IPv4Interface],
    plan: Plan,
    maker_defaults: Sequence[AddressRange] = (),
    present: Collection[Mac] = (),
) -> tuple[str, ...]:
    """One sentence each.

    ``own`` are the addresses of the adapter it was found on, ``present`` all MACs found there.
    """
    found: list[str] = []
    for protocol, times in device.asks:
        if not device.addresses:
            often = "once" if times == 1 else f"{times} times"
            found.append(f"has no address, asked for one by {protocol} {often}")
    for address in device.addresses:
        if device.rivals:
            others = ", ".join(str(mac) for mac in device.rivals)
            found.append(f"{address} is shared with {others}")
        if any(address in span for span in maker_defaults):
            found.append("maker's default address")
        if not any(address in interface.network for interface in own):
            found.append(f"outside this adapter's subnets: portcall match {address}")
    if plan.devices:
        found.extend(_against_plan(device, plan, present))
    return tuple(found)


def _against_plan(device: Device, plan: Plan, present: Collection[Mac]) -> list[str]:
    if device.mac is None:
        return [
            "not in the plan" for address in device.addresses if plan.by_address(address) is None
        ]
    row = plan.by_mac(device.mac)
    if row:
        misplaced = device.addresses and row.address not in device.addresses
        return [f"planned at {row.address}"] if misplaced else []
    near = near_misses(device.mac, plan, present)
    if near:
        return [str(miss) for miss in near]
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
