"""``portcall match``.

What needs asyncio is imported where it is used: ``match --no-probe`` has 300 ms in all, and does
without it.
"""

from __future__ import annotations

from ipaddress import IPv4Address, IPv4Interface

import click

from portcall.cli.main import NO, YES
from portcall.cli.matching import (
    Matched,
    free_address,
    put_in_force,
    refuse_managed,
    refuse_overlap,
    show,
)
from portcall.cli.say import json_option, print_json
from portcall.cli.workplace import (
    adapter_option,
    adapters_now,
    capture_option,
    chosen_adapter,
    never_ours,
    parse_target,
    record,
    this_site,
)
from portcall.core.adapters.adapter import Adapter
from portcall.core.adapters.own_address import Wanted, candidates, check_own, wanted_for
from portcall.core.address import parse_interface
from portcall.core.trouble import BadInput, NotPossibleHere
from portcall.host.addresses import add_address, remove_address
from portcall.host.privilege import Privilege, require
from portcall.site import journal


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
    adapter_name: str | None,
    capture: str | None,
    as_json: bool,
) -> int:
    """Put this computer into the subnet of TARGET: a device's address, a subnet or a planned name.

    Takes a host number that nothing else uses, adds it to the adapter, and checks that the
    operating system really uses it. What was there stays, or comes back: "portcall restore" undoes
    it. With --dhcp there is no TARGET; the address ends with its lease.
    """
    if (target is None) != dhcp or (dhcp and typed):
        raise click.UsageError("match takes a TARGET, or --dhcp without TARGET and --address")
    if target is None:
        from portcall.cli.match_dhcp import match_by_dhcp

        adapter = chosen_adapter(adapter_name)
        record(adapter, capture)
        return match_by_dhcp(adapter, replace, no_probe, dry_run, as_json)
    site = this_site()
    plan = site.plan()
    wanted = wanted_for(parse_target(target, plan), plan, site.subnets)
    own = parse_interface(typed) if typed else None
    if own is not None:
        wanted = _by_hand(own, wanted)
        check_own(own, plan, site.subnets)
    adapter = chosen_adapter(adapter_name)
    record(adapter, capture)
    there = _already(adapter, wanted, own)
    if there is not None and not (replace and len(adapter.addresses) > 1):
        return show(
            Matched(adapter, there, wanted.target, wanted.prefix_from, added=False), as_json
        )
    refuse_overlap(adapter, wanted.network)
    refuse_managed(adapter, replace)
    avoid = never_ours(site, plan)
    avoid |= {address.ip for other in adapters_now() for address in other.interfaces}
    choices = iter((own.ip,)) if own else candidates(wanted, site.workstation, avoid)
    if dry_run:
        return _say_what_would_be_done(adapter, wanted, next(choices, None), replace, as_json)
    require(
        Privilege.NET_ADMIN,
        *(() if no_probe else (Privilege.NET_RAW,)),
        instead=f"portcall match {target} --dry-run shows what it would do",
    )
    address = next(choices, None) if no_probe else free_address(adapter, choices)
    if address is None:
        raise NotPossibleHere(
            f"{wanted.network}: no address is left for this computer; "
            "choose one yourself with --address"
        )
    interface = IPv4Interface((address, wanted.network.prefixlen))
    put_in_force(adapter, interface, replace)
    prefix_from = wanted.prefix_from
    if wanted.prefix_assumed and wanted.target is not None and not no_probe:
        told = _mask_of_device(adapter, interface, wanted.target)
        if told is not None:
            interface, prefix_from = told, "device"
    return show(Matched(adapter, interface, wanted.target, prefix_from, alone=replace), as_json)


def _by_hand(own: IPv4Interface, wanted: Wanted) -> Wanted:
    if wanted.target is not None and wanted.target not in own.network:
        raise BadInput(f"{own}: {wanted.target} is not in {own.network}; it would not be reached")
    if own.ip == wanted.target:
        raise BadInput(f"{own}: is the device's own address; choose another host number")
    return Wanted(own.network, wanted.target, "typed")


def _already(adapter: Adapter, wanted: Wanted, own: IPv4Interface | None) -> IPv4Interface | None:
    if own is not None:
        return own if own in adapter.interfaces else None
    return next((mine for mine in adapter.interfaces if mine.network == wanted.network), None)


def _mask_of_device(
    adapter: Adapter, interface: IPv4Interface, target: IPv4Address
) -> IPv4Interface | None:
    """Ask the device for its mask, and take it over; None when it does not tell a usable one."""
    import asyncio

    from portcall.core.wire.dhcp import prefix_length
    from portcall.host.jobs.interface import read_mask

    mask = asyncio.run(read_mask(adapter.name, target))
    prefix = prefix_length(mask) if mask else None
    if prefix is None or not 1 <= prefix <= 30:
        return None
    corrected = IPv4Interface((interface.ip, prefix))
    if corrected == interface:
        return interface
    edges = (corrected.network.network_address, corrected.network.broadcast_address)
    if interface.ip in edges or target not in corrected.network:
        return None
    refuse_overlap(adapter, corrected.network)
    first = next(e for e in journal.open_matches() if e.added == interface)
    journal.note(first.adapter, first.mac, corrected, first.before, first.taken_off, first.at)
    add_address(adapter, corrected)
    remove_address(adapter, interface)
    journal.close(first)
    return corrected


def _say_what_would_be_done(
    adapter: Adapter, wanted: Wanted, address: IPv4Address | None, replace: bool, as_json: bool
) -> int:
    interface = IPv4Interface((address, wanted.network.prefixlen)) if address else None
    kept = [str(own) for own in adapter.interfaces]
    if as_json:
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
