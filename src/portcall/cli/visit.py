"""``portcall visit``."""

from __future__ import annotations

import asyncio
import sys
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from datetime import UTC, datetime
from ipaddress import IPv4Address, IPv4Interface, IPv4Network

import click

from portcall.cli.looking import look_for_list
from portcall.cli.main import NO, YES
from portcall.cli.options import (
    adapter_option,
    capture_option,
    chosen_adapter,
    is_number,
    plan_if_sound,
    target_meant,
)
from portcall.cli.say import note
from portcall.cli.views.devices import print_found
from portcall.cli.views.visit import say_card, say_how_it_is_left, say_what_was_done
from portcall.cli.views.why import print_end, print_step
from portcall.core.adapters.adapter import Adapter
from portcall.core.address import parse_address, parse_mask
from portcall.core.find.device import Device
from portcall.core.find.sighting import Field
from portcall.core.finding import Name
from portcall.core.plan.rows import Plan
from portcall.core.plan.targets import Meant, first_address, parse_device
from portcall.core.plan.unset import to_get_an_address
from portcall.core.printable import printable
from portcall.core.trouble import BadInput, NotPossibleHere, Trouble
from portcall.core.why.ladder import Step
from portcall.jobs.look.meeting import Met, meet, seen_from_near
from portcall.jobs.look.orders import gathering_for, orders_for, with_starting
from portcall.jobs.record.by import By
from portcall.jobs.telling import nobody
from portcall.jobs.why.why import prepare
from portcall.jobs.workstation.adapters import as_it_is_now
from portcall.jobs.workstation.shell import last, require_for_visit
from portcall.jobs.workstation.stay import Stay
from portcall.site.folder import Site, this_site

_WORDS = "portcall.visit.words"
_WHICH = "which one? its number, or Enter for none"


class _BeforeTheCommand(click.Command):
    """Takes what follows ``--`` as it is; a TARGET stands before it, or none does."""

    def parse_args(self, ctx: click.Context, args: list[str]) -> list[str]:
        """Set the person's own command aside, and parse the rest."""
        cut = args.index("--") if "--" in args else len(args)
        ctx.meta[_WORDS] = args[cut + 1 :]
        return super().parse_args(ctx, args[:cut])

    def collect_usage_pieces(self, ctx: click.Context) -> list[str]:
        """Have the usage say so, too."""
        return [*super().collect_usage_pieces(ctx), "[-- COMMAND…]"]


@click.command("visit", cls=_BeforeTheCommand)
@click.argument("target", required=False)
@click.option("--dhcp", is_flag=True, help="Take the address that a machine or server hands out.")
@adapter_option
@capture_option
def visit_command(target: str | None, dhcp: bool) -> int:
    """Be in the subnet of TARGET until you leave, and then have this computer as it was.

    TARGET is a planned name, an address, a MAC, a subnet or a number of the last list; without one,
    what is at the end of the cable is looked for. A shell opens in which open, reach, why, trace,
    move, keep, verify and blink without a target mean this device; "exit" leaves. COMMAND is run
    instead of a shell, and its exit code is ours.

    The visit holds what it added while the cable or the adapter is out, lengthens its lease, and
    goes along when the device gets another address.

    \b
    portcall visit dryer-plc
    portcall visit 192.168.1.1 -- portcall open
    """
    words: list[str] = click.get_current_context().meta[_WORDS]
    if not words and not sys.stdin.isatty():
        raise BadInput(
            "a visit without COMMAND opens a shell, and there is no terminal for one",
            "name a COMMAND after --",
        )
    require_for_visit(words)
    site = this_site()
    plan = plan_if_sound(site)
    network = _network(target)
    if target is not None and network is None:
        target = target_meant(target, site, plan, By.DEVICE)
    meant = parse_device(target, plan) if target and network is None else None
    adapter = chosen_adapter(first_address([meant] if meant else []))
    if meant is None and network is None and not dhcp:
        device = _the_one_there(adapter, site, plan)
        if device is None:
            return NO
        meant = _meant(device, plan)
        if device.value(Field.SERVES) and adapter.on_subnet_of(device.addresses[0]) is None:
            note("it hands out addresses: this computer takes one")
            dhcp = True
    if meant is not None:
        return visit_device(adapter, site, plan, meant, words, dhcp)
    return _visit(adapter, site, plan, network, words, dhcp)


def visit_device(
    adapter: Adapter,
    site: Site,
    plan: Plan,
    meant: Meant,
    words: list[str] | None = None,
    dhcp: bool = False,
    first: Callable[[Met], object] = nobody,
) -> int:
    """Visit a device that is somewhere on this adapter; without ``words``, by a shell.

    ``first`` is done once this computer is in its subnet. Raises BadInput, NotPossibleHere.
    """
    require_for_visit(words or [])
    met = meet(adapter, site, plan, meant, note)
    return _visit(adapter, site, plan, met, words or [], dhcp, first)


def _network(target: str | None) -> IPv4Network | None:
    """The subnet that was typed; a device's address with its mask means the subnet around it."""
    if target is None or "/" not in target:
        return None
    address, _, mask = target.partition("/")
    return IPv4Interface((parse_address(address), parse_mask(mask))).network


def _visit(
    adapter: Adapter,
    site: Site,
    plan: Plan,
    target: Met | IPv4Network | None,
    words: list[str],
    dhcp: bool,
    first: Callable[[Met], object] = nobody,
) -> int:
    began = datetime.now(UTC)
    tell = _Telling(above_a_prompt=not words)
    if isinstance(target, Met):
        where: IPv4Address | IPv4Network | None = target.address
        about = (target.name, target.mac, target.address)
        stay = Stay(adapter, site, tell, *about, whoever=target.whoever)
    else:
        where = target
        stay = Stay(adapter, site, tell, str(target or ""), is_device=target is None)
    stay.enter(None if dhcp else where)
    try:
        visited = stay.visited
        if target is None and visited.address is not None:
            target = Met(Name(visited.name), visited.address, visited.mac, True)
        if isinstance(target, Met):
            _introduce(stay, adapter, site, plan, target, bool(words))
            try:
                first(target)
            except Trouble as trouble:
                # The visit is there all the same, and what failed can be typed again in it.
                note(trouble)
        note(f"visiting {visited.name}; {'its end' if words else 'exit'} puts this computer back")
        with tell.meanwhile():
            code = asyncio.run(last(stay, words))
    finally:
        restored = stay.leave()
        say_what_was_done(site, plan, began)
        say_how_it_is_left(restored)
    if words:
        return code
    return YES if all(each.done for each in restored) else NO


class _Telling:
    """Says what happens: while a shell waits for keys, on lines of its own."""

    def __init__(self, above_a_prompt: bool) -> None:
        self._shell = above_a_prompt
        self._now = False

    def __call__(self, fact: object) -> None:
        """Say it. A shell may have the terminal in a mode in which a new line begins nowhere."""
        if self._now and self._shell:
            text = str(fact).replace("\n", "\r\n")
            click.echo(f"\r\n{text}\r", err=True)
        else:
            note(fact)

    @contextmanager
    def meanwhile(self) -> Iterator[None]:
        """While the block runs, the shell has the terminal."""
        self._now = True
        try:
            yield
        finally:
            self._now = False


def _introduce(
    stay: Stay, adapter: Adapter, site: Site, plan: Plan, met: Met, briefly: bool
) -> None:
    """Say who the device is; where it does not answer, why."""
    if met.several:
        macs = " and ".join(map(str, met.several))
        note(f"several devices answer at {met.address}: {macs}; pull the cable of all but one")
    device = seen_from_near(as_it_is_now(adapter), site, plan, met, note)
    if device is not None:
        stay.learn_mask(device.mask)
        say_card(met, device, plan, as_it_is_now(adapter))
        return
    note(f"{met.name} does not answer at {met.address}; the visit is there when it does")
    if briefly:
        return
    climb = prepare(str(met.address), None, adapter.name, site, plan)

    def tell(fact: object) -> None:
        if isinstance(fact, Step):
            print_step(fact)

    print_end(asyncio.run(climb.run(tell)))


def _the_one_there(adapter: Adapter, site: Site, plan: Plan) -> Device | None:
    """The device at the end of the cable; where there are several, the one that is chosen.

    None when there is none, or none is chosen. Raises NotPossibleHere.
    """
    note(f"looking what is on {adapter.name} …")
    gathering = gathering_for(site, plan)
    orders = with_starting(orders_for(adapter, site, gathering))
    found, _ = look_for_list(adapter, site, gathering, orders, False, True)
    there = [device for device in found.devices if device.addresses]
    if len(there) == 1:
        return there[0]
    if found.devices:
        print_found(found, numbered=True)
    else:
        note("nothing was heard: is this the right adapter, and has the device power?")
    if not there:
        return None
    if not sys.stdin.isatty():
        raise NotPossibleHere(
            f"{len(there)} devices have an address here, and nobody is there to choose one",
            "name the TARGET",
        )
    return _chosen(found.devices, plan)


def _chosen(devices: Sequence[Device], plan: Plan) -> Device | None:
    """Ask for a number until it is one of a device that can be visited, or none is typed."""
    while True:
        typed = click.prompt(_WHICH, "", show_default=False, err=True).strip()
        if not typed:
            return None
        number = int(typed) if is_number(typed) else 0
        if not 1 <= number <= len(devices):
            note(f"{printable(typed, 40)}: is no number of the list")
        elif not devices[number - 1].addresses:
            device = devices[number - 1]
            line = to_get_an_address(device.mac, bool(device.asks), plan)
            note(f"{number} has no address yet: {line}")
        else:
            return devices[number - 1]


def _meant(device: Device, plan: Plan) -> Meant:
    row = plan.by_mac(device.mac) if device.mac is not None else None
    words = row.name if row is not None else str(device.mac or device.addresses[0])
    return Meant(words, row, device.mac, device.addresses[0])
