"""The steps that every way of matching shares: refuse, ask, write down, change, read back, say."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from datetime import UTC, datetime
from ipaddress import IPv4Address, IPv4Interface, IPv4Network

import click

from portcall.cli.main import NO, YES
from portcall.cli.say import note, print_json
from portcall.cli.workplace import adapters_now
from portcall.core.adapters.adapter import Adapter
from portcall.core.talk.probe import PROBE_TIME, Taken
from portcall.core.trouble import NotPossibleHere
from portcall.host.adapters import leaves_by, managed_by
from portcall.host.addresses import add_address, save, take_off
from portcall.host.jobs.settle import first_free
from portcall.site import journal


@dataclass(frozen=True, slots=True)
class Matched:
    """What a match came to; ``before`` is the adapter as it was."""

    before: Adapter
    interface: IPv4Interface
    target: IPv4Address | None
    prefix_from: str
    added: bool = True
    alone: bool = False
    lease_seconds: int | None = None


def refuse_overlap(adapter: Adapter, network: IPv4Network) -> None:
    """Raise NotPossibleHere when another adapter is in an overlapping subnet."""
    for other in adapters_now():
        for its in other.interfaces:
            if other.name != adapter.name and its.network.overlaps(network):
                raise NotPossibleHere(
                    f"{network} overlaps {its.network} on {other.name}: packets could leave by the "
                    f"wrong adapter; disconnect {other.name}, or use it with --adapter {other.name}"
                )


def refuse_managed(adapter: Adapter, replace: bool) -> None:
    """Raise NotPossibleHere where a network manager would undo what is about to be done."""
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
    note(f"asking on {adapter.name} which address is free, {PROBE_TIME:.0f} s …")

    def taken(fact: Taken) -> None:
        note(f"{fact.address} is taken, {fact.mac} has it")

    return first_free(adapter, choices, taken)


def put_in_force(
    adapter: Adapter,
    interface: IPv4Interface,
    replace: bool,
    lifetime: int | None = None,
    visiting: bool = False,
) -> None:
    """Write down what is about to change, then change it."""
    assert adapter.mac is not None
    taken_off = save(adapter) if replace else ()
    now = datetime.now(UTC)
    journal.note(adapter.name, adapter.mac, interface, adapter.interfaces, taken_off, now, visiting)
    take_off(adapter, taken_off)
    add_address(adapter, interface, lifetime)


def show(matched: Matched, as_json: bool) -> int:
    """Read back from the kernel what is in force, and say it; nothing is said from memory."""
    before, interface = matched.before, matched.interface
    now = next((a for a in adapters_now() if a.index == before.index), None)
    other = matched.target or next(h for h in interface.network.hosts() if h != interface.ip)
    leaves = leaves_by(other)
    in_force = now is not None and interface in now.interfaces and leaves == before.name
    if as_json:
        document = {
            "adapter": before.name,
            "address": str(interface.ip),
            "prefix": interface.network.prefixlen,
            "added": matched.added,
            "in_force": in_force,
            "before": [str(own) for own in before.interfaces],
            "prefix_from": matched.prefix_from,
            "lease_seconds": matched.lease_seconds,
        }
        print_json(document)
    elif not in_force:
        click.echo(
            f"{before.name}: {interface} is NOT in force; packets to {other} leave by {leaves}"
        )
    else:
        verb = "added" if matched.added else "was there already"
        click.echo(
            f"{before.name}: {interface} {verb}, in force: packets to {other} leave by {leaves}"
        )
        for sentence in _details(matched, now.interfaces if now else ()):
            click.echo(sentence)
    return YES if in_force else NO


def _details(matched: Matched, now: tuple[IPv4Interface, ...]) -> Iterator[str]:
    before, prefix = matched.before, matched.interface.network.prefixlen
    if matched.prefix_from == "assumed":
        yield f"the mask /{prefix} is an assumption: nobody gave one"
    elif matched.prefix_from == "device":
        yield f"the mask /{prefix} is the device's own"
    if not matched.added or not before.interfaces:
        return
    if matched.alone:
        yield f"taken off until restore: {', '.join(map(str, before.interfaces))}"
    else:
        kept = [str(own) for own in now if own != matched.interface]
        yield f"{before.name} keeps what it had: {', '.join(kept)}"
