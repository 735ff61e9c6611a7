"""Moving devices, one after the other: where each is to go, and what stands in its way."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from ipaddress import IPv4Interface

from portcall.core.adapters.adapter import Adapter
from portcall.core.address import assumed_prefix, check_host, parse_address, parse_interface
from portcall.core.find.sighting import Method
from portcall.core.finding import Finding, Line, Name
from portcall.core.plan.inside import other_interfaces
from portcall.core.plan.rows import Plan, PlannedDevice, gateway_for, prefix_for
from portcall.core.plan.targets import Meant
from portcall.core.setting import sentences as say
from portcall.core.setting.job import Outcome, undone
from portcall.core.trouble import BadInput
from portcall.jobs.look.locate import Located, locate
from portcall.jobs.setting.log import Ended
from portcall.jobs.setting.mover import Mover
from portcall.jobs.setting.naming import names_for
from portcall.site.folder import Site


def move_each(
    mover: Mover,
    meant: Sequence[Meant],
    plan: Plan,
    ended: Ended,
    name: str | None,
    named: bool,
) -> bool:
    """Find the devices, and move each; whether all are where they should be.

    ``ended`` is told what came of each. ``named``: each is to call itself as the plan does, or
    ``name``. Raises NotPossibleHere.
    """
    good = True
    for found in locate(mover.adapter, mover.site, plan, meant, mover.tell, everywhere=True):
        each = _at_its_interface(_recognised(found, plan), plan)
        outcome = _obstacle(each)
        if outcome is None:
            called, unnamed = names_for(each.meant, name) if named else (None, ())
            outcome = mover.move(each, called).with_findings(*unnamed)
        ended(each, outcome)
        good = good and outcome.done
    return good


def _at_its_interface(found: Located, plan: Plan) -> Located:
    """The device at the address of the interface that is meant, where the plan has several of it.

    A device may answer for all of its addresses at each of its plugs (RFC 1122 §3.3.4.2), and what
    is set is the interface that has the address at which it is spoken to.
    """
    device, row = found.device, found.meant.row
    planned = plan.by_name(row.name) if row is not None else None
    if device is None or planned is None or not device.addresses:
        return found
    others = other_interfaces(planned.name, plan)
    if not others:
        return found
    left = tuple(address for address in device.addresses if address not in others)
    if planned.address in left:
        left = (planned.address,)
    if len(left) != 1:
        unsure = say.INTERFACE_UNSURE(addresses=device.addresses)
        return Located(found.meant, None, unsure)
    return replace(found, device=replace(device, addresses=left))


def undo_each(mover: Mover, meant: Sequence[Meant], plan: Plan, ended: Ended) -> bool:
    """Find the devices, and bring each back to what it had; whether all are. As ``move_each``."""
    good = True
    for found in locate(mover.adapter, mover.site, plan, meant, mover.tell, everywhere=True):
        each = _at_its_interface(found, plan)
        if each.device is None:
            outcome = undone(each.why_not)
        elif each.rivals:
            shared = say.PULL_MEANWHILE(address=each.device.addresses[0], macs=each.rivals)
            outcome = undone(shared)
        else:
            outcome = mover.undo(each)
        ended(each, outcome)
        good = good and outcome.done
    return good


def refuse_own(adapter: Adapter, meant: Sequence[Meant]) -> None:
    """Raise BadInput when a device is to get an address that this computer has."""
    ours = {own.ip for own in adapter.interfaces}
    for row in (device.row for device in meant):
        if row is not None and row.address in ours:
            raise BadInput(f"{row.address}: this computer has it on {adapter.name}")


def with_goal(
    meant: Meant, to: str | None, site: Site, plan: Plan, gateway: str | None = None
) -> Meant:
    """Where a device is to go: where it is planned, or where ``--to`` says. Raises BadInput.

    ``gateway`` is what was typed with that; else it is that of the row, or of the site's subnet.
    """
    found = _with_goal(meant, to, site, plan)
    if gateway is None or found.row is None:
        return found
    address = parse_address(gateway)
    if address not in found.row.interface.network or address == found.row.address:
        raise BadInput(f"--gateway {address}: is no other host in {found.row.interface.network}")
    return replace(found, row=replace(found.row, gateway=address))


def _with_goal(meant: Meant, to: str | None, site: Site, plan: Plan) -> Meant:
    row = meant.row
    if to is None:
        if row is None and meant.address is None:
            raise BadInput(str(_nowhere(meant)))
        if row is not None and row.mac is None and meant.address is None and meant.mac is None:
            raise BadInput(
                f"{row.name}: has no MAC in the plan, so nobody can tell which device it is",
                f"name it by its MAC or address with --to {row.interface}, or see --series",
            )
        return meant
    interface, assumed = _goal(to, row, site)
    holder = plan.by_address(interface.ip)
    if holder is not None and holder.mac is None and row is None:
        # A row that waits to be told which device it is.
        gateway = holder.gateway or gateway_for(interface, site.subnets)
        return replace(meant, row=replace(holder, interface=interface, gateway=gateway))
    if holder is not None and holder is not row:
        raise BadInput(f"{interface.ip}: the plan gives it to {holder.name}")
    if row is None:
        gateway = gateway_for(interface, site.subnets)
        device = PlannedDevice(
            Name(meant.words), interface, meant.mac, gateway, mask_assumed=assumed
        )
        return replace(meant, row=device)
    gateway = row.gateway if row.gateway and row.gateway in interface.network else None
    gateway = gateway or gateway_for(interface, site.subnets)
    there = replace(row, interface=interface, gateway=gateway, mask_assumed=assumed)
    return replace(meant, row=there)


def _goal(to: str, row: PlannedDevice | None, site: Site) -> tuple[IPv4Interface, bool]:
    """An address with its mask, and whether that is an assumption. Raises BadInput."""
    assumed = False
    if "/" not in to:
        address = parse_address(to)
        prefix = prefix_for(address, site.subnets)
        if row is not None and not row.mask_assumed and address in row.interface.network:
            prefix = row.interface.network.prefixlen
        assumed = prefix is None
        to = f"{address}/{prefix or assumed_prefix(address)}"
    interface = parse_interface(to)
    check_host(interface)
    return interface, assumed


def _recognised(each: Located, plan: Plan) -> Located:
    """A device that was named by where it is has its row by the MAC that was found there."""
    if each.meant.row is not None or each.device is None:
        return each
    row = plan.by_mac(each.device.mac)
    if row is None:
        return Located(each.meant, None, _nowhere(each.meant))
    return replace(each, meant=replace(each.meant, row=row))


def _nowhere(meant: Meant) -> Finding:
    return say.NOWHERE_PLANNED(words=meant.words)


def _obstacle(each: Located) -> Outcome | None:
    """Why a device cannot be moved, or None."""
    device = each.device
    if device is None:
        return undone(each.why_not)
    if Method.DCP in device.methods:
        return None
    if device.asks and not device.addresses:
        line = Line("assign", each.meant.name, "--keep")
        return undone(say.ASKS_BY(line, protocol=device.asks[0].protocol))
    return None if device.addresses else undone(say.PANEL_ONLY())
