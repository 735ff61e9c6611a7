"""``portcall match``.

What needs asyncio is imported where it is used: ``match --no-probe`` has 300 ms in all, and does
without it.
"""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime, timedelta
from ipaddress import IPv4Address, IPv4Interface

import click

from portcall.cli.main import NO, NOT_POSSIBLE, YES
from portcall.cli.options import (
    adapter_option,
    capture_option,
    chosen_adapter,
    json_option,
    target_meant,
)
from portcall.cli.recording import recorded
from portcall.cli.say import note, print_json, wants_json
from portcall.core.adapters.adapter import Adapter
from portcall.core.adapters.own_address import Wanted, check_own, wanted_for
from portcall.core.address import parse_address, parse_interface, parse_mask
from portcall.core.finding import Line, Name
from portcall.core.plan.rows import Plan
from portcall.core.plan.targets import parse_target
from portcall.core.record.entry import Kind
from portcall.core.trouble import BadInput, NotPossibleHere
from portcall.jobs.record.by import By
from portcall.jobs.workstation.match import (
    InForce,
    Matched,
    choices_for,
    in_force,
    is_taken,
    match,
    refuse_managed,
    require_for_match,
)
from portcall.site.folder import Site, this_site


@click.command("match")
@click.argument("target", required=False)
@click.option(
    "--address", "typed", metavar="A/N", help="Take this address, instead of one that is free."
)
@click.option("--replace", is_flag=True, help="Take the adapter's other addresses off meanwhile.")
@click.option("--dhcp", is_flag=True, help="Take what a device or server here hands out.")
@click.option("--no-probe", is_flag=True, help="Do not ask on the wire whether it is free.")
@click.option("--dry-run", is_flag=True, help="Say what would be done, and do nothing.")
@adapter_option
@capture_option
@json_option
def match_command(
    target: str | None,
    typed: str | None,
    replace: bool,
    dhcp: bool,
    no_probe: bool,
    dry_run: bool,
) -> int:
    """Put this computer into the subnet of TARGET: a device's address, a subnet or a planned name.

    Takes a host number that nothing else uses, adds it to the adapter, and checks that the
    operating system really uses it. What was there stays, or comes back: "portcall restore" undoes
    it. With --dhcp there is no TARGET; the address ends with its lease.

    \b
    portcall match dryer-plc
    portcall match 10.61.20.0/24 --replace
    """
    if (target is None) != dhcp or (dhcp and typed):
        raise click.UsageError("match takes a TARGET, or --dhcp without TARGET and --address")
    if target is None:
        adapter = chosen_adapter()
        return _match_by_dhcp(adapter, replace, not no_probe, dry_run)
    site = this_site()
    plan = site.plan()
    target = target_meant(target, site, plan, By.ADDRESS)
    wanted = _wanted(target, plan, site)
    own = parse_interface(typed) if typed else None
    if own is not None:
        wanted = _by_hand(own, wanted)
        check_own(own, plan, site.subnets)
    adapter = chosen_adapter(wanted.target)
    there = _already(adapter, wanted, own)
    if there is not None and replace and not no_probe and not dry_run:
        require_for_match(True, f"portcall match {target} --dry-run shows what it would do")
        if is_taken(adapter, there):
            note(f"{there.ip} of this computer is somebody else's, too: another one is taken")
            there = None
    if there is not None and not (replace and len(adapter.addresses) > 1):
        return _show(Matched(adapter, there, wanted.target, wanted.prefix_from, added=False))
    if not replace and any(mine.ip == wanted.target for mine in adapter.interfaces):
        raise NotPossibleHere(
            f"{wanted.target} is this computer's own address on {adapter.name}; to take another "
            "instead of it",
            Line("match", Name(target), "--replace"),
        )
    refuse_managed(adapter, replace, note)
    choices = choices_for(adapter, wanted, own, site, plan)
    if dry_run:
        return _say_what_would_be_done(adapter, wanted, next(choices, None), replace)
    require_for_match(not no_probe, f"portcall match {target} --dry-run shows what it would do")
    matched = match(adapter, wanted, choices, replace, not no_probe, note, typed=own is not None)
    return _show(matched)


def _wanted(target: str, plan: Plan, site: Site) -> Wanted:
    """The subnet that is meant: by a device, by the subnet itself, or by a device with its mask."""
    device, slash, mask = target.partition("/")
    if slash and plan.by_name(target) is None:
        address, prefix = parse_address(device), parse_mask(mask)
        network = IPv4Interface((address, prefix)).network
        if address != network.network_address:
            parse_interface(target)
            return Wanted(network, address, "typed")
    return wanted_for(parse_target(target, plan), plan, site.subnets)


def _match_by_dhcp(adapter: Adapter, alone: bool, probe: bool, dry_run: bool) -> int:
    """Some machines hand the laptop its address."""
    from portcall.jobs.workstation.match_dhcp import best_offer, match_by_dhcp

    offer = best_offer(adapter, alone, note, taking=not dry_run)
    if dry_run:
        if wants_json():
            print_json({"adapter": adapter.name, "would_ask_for": str(offer.address)})
        else:
            click.echo(f"would take {offer.address} from {offer.server}")
        return YES
    matched = match_by_dhcp(adapter, offer, alone, probe, note)
    code = _show(matched)
    if matched.lease is not None and matched.lease.seconds is not None:
        end = datetime.now() + timedelta(seconds=matched.lease.seconds_left)
        note(
            f"the lease ends at {end:%H:%M:%S}, and the address with it; portcall match --dhcp "
            "before then makes it longer"
        )
    return code


def _by_hand(own: IPv4Interface, wanted: Wanted) -> Wanted:
    if wanted.target is not None and wanted.target not in own.network:
        raise BadInput(f"{own}: {wanted.target} is not in {own.network}", "it would not be reached")
    if own.ip == wanted.target:
        raise BadInput(f"{own}: is the device's own address", "choose another host number")
    return Wanted(own.network, wanted.target, "typed")


def _already(adapter: Adapter, wanted: Wanted, own: IPv4Interface | None) -> IPv4Interface | None:
    if own is not None:
        return own if own in adapter.interfaces else None
    # This computer cannot reach a device from that device's own address.
    return next(
        (
            mine
            for mine in adapter.interfaces
            if mine.network == wanted.network and mine.ip != wanted.target
        ),
        None,
    )


def _say_what_would_be_done(
    adapter: Adapter, wanted: Wanted, address: IPv4Address | None, replace: bool
) -> int:
    interface = IPv4Interface((address, wanted.network.prefixlen)) if address else None
    kept = [str(own) for own in adapter.interfaces]
    if wants_json():
        document = {
            "adapter": adapter.name,
            "would_try_first": str(interface) if interface else None,
            "prefix_from": wanted.prefix_from,
            "would_take_off": kept if replace else [],
        }
        print_json(document)
    elif interface is None:
        click.echo(f"{wanted.network}: no address is left for this computer")
    else:
        click.echo(f"would add {interface} to {adapter.name}, if nobody there has it")
        click.echo(f"the mask is from: {wanted.prefix_from}")
        if replace and kept:
            click.echo(f"would take off meanwhile: {', '.join(kept)}")
    return YES if interface else NO


def _show(matched: Matched) -> int:
    """Say what is in force now."""
    before, interface, now = matched.before, matched.interface, in_force(matched)
    if matched.added:
        had = [str(own) for own in before.interfaces]
        body = {"added": str(interface), "before": had, "alone": matched.alone}
        told = f"{interface} added, before {', '.join(had) or 'no address'}"
        recorded(this_site(), Kind.MATCH, told, body, adapter=before.name)
    if wants_json():
        document = {
            "adapter": before.name,
            "address": str(interface.ip),
            "prefix": interface.network.prefixlen,
            "added": matched.added,
            "in_force": now.is_so,
            "before": [str(own) for own in before.interfaces],
            "prefix_from": matched.prefix_from,
            "lease_seconds": matched.lease.seconds if matched.lease else None,
        }
        print_json(document)
        return _ending(now)
    ways = (
        f"packets to {now.towards} leave by {now.leaves_by}"
        if now.leaves_by
        else f"the operating system sends no packet to {now.towards}"
    )
    if now.is_so:
        has = "now has" if matched.added else "already has"
        click.echo(f"{before.name} {has} {interface}: {ways}")
        for sentence in _details(matched, now):
            click.echo(sentence)
    elif not now.has_link:
        click.echo(f"{before.name} has no link: {interface} is set, and reaches nobody until then")
    else:
        click.echo(f"{before.name} does not use {interface}: {ways}")
    return _ending(now)


def _ending(now: InForce) -> int:
    if now.is_so:
        return YES
    return NO if now.has_link else NOT_POSSIBLE


def _details(matched: Matched, now: InForce) -> Iterator[str]:
    before, prefix = matched.before, matched.interface.network.prefixlen
    if matched.prefix_from == "assumed":
        yield f"the mask /{prefix} is an assumption: nobody gave one"
    elif matched.prefix_from == "standard":
        yield f"the mask /{prefix} is that of all self-assigned addresses"
    elif matched.prefix_from == "device":
        yield f"the mask /{prefix} is the device's own"
    if not matched.added or not before.interfaces:
        return
    if matched.alone:
        yield f"taken off until restore: {', '.join(map(str, before.interfaces))}"
    else:
        kept = [str(own) for own in now.addresses if own != matched.interface]
        yield f"{before.name} keeps what it had: {', '.join(kept)}"
