"""``portcall match``."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import UTC, datetime
from ipaddress import IPv4Address, IPv4Interface, IPv4Network

import click

from portcall.cli.main import NO, YES
from portcall.cli.say import json_option, note, print_json
from portcall.cli.workplace import (
    adapter_option,
    adapters_now,
    chosen_adapter,
    parse_target,
    this_site,
)
from portcall.core.adapter import Adapter
from portcall.core.address import parse_interface
from portcall.core.match import Wanted, candidates, check_own, wanted_for
from portcall.core.trouble import BadInput, NotPossibleHere
from portcall.host.adapters import leaves_by, managed_by
from portcall.host.addresses import add_address, remove_address, save, take_off
from portcall.host.privilege import Capability, require
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
@json_option
def match_command(
    target: str | None,
    typed: str | None,
    replace: bool,
    dhcp: bool,
    no_probe: bool,
    dry_run: bool,
    adapter_name: str | None,
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
        _refuse_managed(adapter, replace)
        return match_by_dhcp(adapter, replace, no_probe, dry_run, as_json)
    site = this_site()
    plan = site.plan()
    wanted = wanted_for(parse_target(target, plan), plan, site.subnets)
    own = parse_interface(typed) if typed else None
    if own is not None:
        wanted = _by_hand(own, wanted)
        check_own(own, plan, site.subnets)
    adapter = chosen_adapter(adapter_name)
    there = _already(adapter, wanted, own)
    if there is not None and not (replace and len(adapter.addresses) > 1):
        return show(adapter, there, wanted.target, as_json, prefix_from=wanted.prefix_from)
    refuse_overlap(adapter, wanted.network)
    _refuse_managed(adapter, replace)
    avoid = {row.address for row in plan} | {s.gateway for s in site.subnets if s.gateway}
    avoid |= {address.ip for other in adapters_now() for address in other.interfaces}
    choices = iter((own.ip,)) if own else candidates(wanted, site.workstation, avoid)
    if dry_run:
        return _say_what_would_be_done(adapter, wanted, next(choices, None), replace, as_json)
    require(
        Capability.NET_ADMIN,
        *(() if no_probe else (Capability.NET_RAW,)),
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
    return show(
        adapter,
        interface,
        wanted.target,
        as_json,
        added=True,
        prefix_from=prefix_from,
        alone=replace,
    )


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


def refuse_overlap(adapter: Adapter, network: IPv4Network) -> None:
    """Raise NotPossibleHere when another adapter is in an overlapping subnet."""
    for other in adapters_now():
        for its in other.interfaces:
            if other.name != adapter.name and its.network.overlaps(network):
                raise NotPossibleHere(
                    f"{network} overlaps {its.network} on {other.name}: packets could leave by the "
                    f"wrong adapter; disconnect {other.name}, or use it with --adapter {other.name}"
                )


def _refuse_managed(adapter: Adapter, replace: bool) -> None:
    manager = managed_by(adapter)
    if manager and replace:
        raise NotPossibleHere(
            f"{adapter.name} is run by {manager}, which would put its addresses back at once; "
            f"tell {manager} to leave {adapter.name} alone, or match without --replace"
        )
    if manager:
        note(f"{adapter.name} is run by {manager}; when that reconnects it, match again")


def free_address(adapter: Adapter, choices: Iterator[IPv4Address]) -> IPv4Address | None:
    """The first of these that nobody has, by asking on the wire."""
    import asyncio

    from portcall.core.probe import PROBE_TIME, Taken
    from portcall.host.jobs.settle import first_free

    note(f"asking on {adapter.name} which address is free, {PROBE_TIME:.0f} s …")

    def taken(fact: Taken) -> None:
        note(f"{fact.address} is taken, {fact.mac} has it")

    return asyncio.run(first_free(adapter, choices, taken))


def put_in_force(
    adapter: Adapter, interface: IPv4Interface, replace: bool, lifetime: int | None = None
) -> None:
    """Write down what is about to change, then change it."""
    assert adapter.mac is not None
    taken_off = save(adapter) if replace else ()
    now = datetime.now(UTC)
    journal.note(adapter.name, adapter.mac, interface, adapter.interfaces, taken_off, now)
    take_off(adapter, taken_off)
    add_address(adapter, interface, lifetime)


def _mask_of_device(
    adapter: Adapter, interface: IPv4Interface, target: IPv4Address
) -> IPv4Interface | None:
    """Ask the device for its mask, and take it over; None when it does not tell a usable one."""
    import asyncio

    from portcall.core.wire.dhcp import prefix_length
    from portcall.host.jobs.interface import read_interface

    told = asyncio.run(read_interface(adapter.name, target))
    prefix = prefix_length(told.mask) if told else None
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


def show(
    before: Adapter,
    interface: IPv4Interface,
    target: IPv4Address | None,
    as_json: bool,
    added: bool = False,
    prefix_from: str = "typed",
    alone: bool = False,
    lease_seconds: int | None = None,
) -> int:
    """Read back from the kernel what is in force, and say it; nothing is said from memory."""
    now = next((a for a in adapters_now() if a.index == before.index), None)
    other = target or next(h for h in interface.network.hosts() if h != interface.ip)
    leaves = leaves_by(other)
    in_force = now is not None and interface in now.interfaces and leaves == before.name
    kept = [own for own in (now.interfaces if now else ()) if own != interface]
    if as_json:
        document = {
            "adapter": before.name,
            "address": str(interface.ip),
            "prefix": interface.network.prefixlen,
            "added": added,
            "in_force": in_force,
            "before": [str(own) for own in before.interfaces],
            "prefix_from": prefix_from,
            "lease_seconds": lease_seconds,
        }
        print_json(document)
        return YES if in_force else NO
    if not in_force:
        click.echo(
            f"{before.name}: {interface} is NOT in force; packets to {other} leave by {leaves}"
        )
        return NO
    verb = "added" if added else "was there already"
    click.echo(f"{before.name}: {interface} {verb}, in force: packets to {other} leave by {leaves}")
    if prefix_from == "assumed":
        click.echo(f"the mask /{interface.network.prefixlen} is an assumption: nobody gave one")
    elif prefix_from == "device":
        click.echo(f"the mask /{interface.network.prefixlen} is the device's own")
    if added and kept:
        click.echo(f"{before.name} keeps what it had: {', '.join(map(str, kept))}")
    if alone and before.interfaces:
        off = ", ".join(map(str, before.interfaces))
        click.echo(f"taken off until restore: {off}")
    return YES if in_force else NO
