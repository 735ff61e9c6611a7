"""``portcall match``."""

from __future__ import annotations

import asyncio
from collections.abc import Iterator
from datetime import UTC, datetime
from ipaddress import IPv4Address, IPv4Interface, IPv4Network

import click

from portcall.cli.main import NO, YES
from portcall.cli.show import json_option, note, print_json
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
from portcall.core.probe import PROBE_TIME, Taken
from portcall.core.trouble import BadInput, NotPossibleHere
from portcall.host.adapters import add_address, leaves_by
from portcall.host.jobs.settle import first_free
from portcall.host.privilege import Capability, require
from portcall.site import journal


@click.command("match")
@click.argument("target")
@click.option(
    "--address", "typed", metavar="A/N", help="Take this address, instead of one that is free."
)
@click.option("--no-probe", is_flag=True, help="Do not ask on the wire whether it is free.")
@adapter_option
@json_option
def match_command(
    target: str, typed: str | None, no_probe: bool, adapter_name: str | None, as_json: bool
) -> int:
    """Put this computer into the subnet of TARGET: a device's address, a subnet or a planned name.

    Takes a host number that nothing else uses, adds it to the adapter, and checks that the
    operating system really uses it. What was there stays; "portcall restore" takes it off again.
    """
    site = this_site()
    plan = site.plan()
    wanted = wanted_for(parse_target(target, plan), plan, site.subnets)
    own = parse_interface(typed) if typed else None
    if own is not None:
        wanted = _by_hand(own, wanted)
        check_own(own, plan, site.subnets)
    adapter = chosen_adapter(adapter_name)
    there = _already(adapter, wanted, own)
    if there is not None:
        return _show(adapter, there, wanted, False, as_json)
    _refuse_overlap(adapter, wanted.network)
    require(Capability.NET_ADMIN, *(() if no_probe else (Capability.NET_RAW,)))
    avoid = {row.address for row in plan} | {s.gateway for s in site.subnets if s.gateway}
    avoid |= {address.ip for other in adapters_now() for address in other.interfaces}
    choices = iter((own.ip,)) if own else candidates(wanted, site.workstation, avoid)
    address = next(choices, None) if no_probe else _free(adapter, choices)
    if address is None:
        raise NotPossibleHere(
            f"{wanted.network}: no address is left for this computer; "
            "choose one yourself with --address"
        )
    interface = IPv4Interface((address, wanted.network.prefixlen))
    assert adapter.mac is not None
    journal.note(adapter.name, adapter.mac, interface, adapter.interfaces, datetime.now(UTC))
    add_address(adapter, interface)
    return _show(adapter, interface, wanted, True, as_json)


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


def _refuse_overlap(adapter: Adapter, network: IPv4Network) -> None:
    for other in adapters_now():
        for its in other.interfaces:
            if other.name != adapter.name and its.network.overlaps(network):
                raise NotPossibleHere(
                    f"{network} overlaps {its.network} on {other.name}: packets could leave by the "
                    f"wrong adapter; disconnect {other.name}, or use it with --adapter {other.name}"
                )


def _free(adapter: Adapter, choices: Iterator[IPv4Address]) -> IPv4Address | None:
    note(f"asking on {adapter.name} which address is free, {PROBE_TIME:.0f} s …")

    def taken(fact: Taken) -> None:
        note(f"{fact.address} is taken, {fact.mac} has it")

    return asyncio.run(first_free(adapter, choices, taken))


def _show(
    before: Adapter, interface: IPv4Interface, wanted: Wanted, added: bool, as_json: bool
) -> int:
    """Read back from the kernel what is in force, and say it."""
    now = next((a for a in adapters_now() if a.index == before.index), None)
    other = wanted.target or next(h for h in wanted.network.hosts() if h != interface.ip)
    leaves = leaves_by(other)
    in_force = now is not None and interface in now.interfaces and leaves == before.name
    if as_json:
        document = {
            "adapter": before.name,
            "address": str(interface.ip),
            "prefix": interface.network.prefixlen,
            "added": added,
            "in_force": in_force,
            "before": [str(own) for own in before.interfaces],
            "prefix_from": wanted.prefix_from,
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
    if wanted.prefix_assumed:
        click.echo(f"the mask /{interface.network.prefixlen} is an assumption: nobody gave one")
    if before.interfaces and added:
        kept = ", ".join(str(own) for own in before.interfaces)
        click.echo(f"{before.name} keeps what it had: {kept}")
    return YES
