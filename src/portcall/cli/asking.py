"""``assign`` without a plan: which device that asks gets which address, asked one after the other.

What is answered becomes rows of the plan, which grows out of what was done.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from ipaddress import IPv4Address, IPv4Interface, IPv4Network
from typing import TypeVar

import click
from rich.text import Text

from portcall.cli.options import is_number
from portcall.cli.running import run
from portcall.cli.say import note, shown_path
from portcall.cli.table import Columns, cell, print_rows
from portcall.cli.views.devices import what
from portcall.cli.views.progress import progress_bar
from portcall.core.adapters.adapter import Adapter
from portcall.core.address import is_host_name, parse_address, parse_interface, parse_subnet
from portcall.core.find.device import Device
from portcall.core.find.sighting import Field, Method
from portcall.core.plan.changing import adding
from portcall.core.plan.rows import Plan, PlannedDevice, gateway_for
from portcall.core.plan.unplanned import networks_of
from portcall.core.printable import printable
from portcall.core.trouble import BadInput, Trouble
from portcall.jobs.look.looked import look
from portcall.jobs.look.orders import gathering_for, orders_for
from portcall.jobs.workstation.next_free import next_free
from portcall.site.folder import Site

T = TypeVar("T")

_LISTEN = 6.0
"""Seconds: a device that asks does so every few of them."""


def row_by_asking(adapter: Adapter, site: Site) -> PlannedDevice:
    """Ask which device it is and which address it gets, and write the row into the plan.

    Raises NotPossibleHere, BadInput; Ctrl-C ends it, and nothing is written then.
    """
    device = _device(adapter, site)
    plan = site.plan()
    network = _network(site, plan, adapter)
    free = next_free(adapter, site, plan, note, network)
    interface = _asked(f"address? Enter for {free}", str(free), _interface_in(network))
    gateway = gateway_for(interface, site.subnets)
    if gateway is None:
        before = [row.gateway for row in plan if row.gateway and row.gateway in network]
        gateway = _asked_for_gateway(interface, before[-1] if before else None)
    usual = _usual_name(device, interface, plan)
    name = _asked(f"name? Enter for {usual}", usual, _new_name(plan))
    cells = {
        "name": name,
        "mac": str(device.mac),
        "address": str(interface),
        **({"gateway": str(gateway)} if gateway is not None else {}),
    }
    for change in site.change_plan(adding([cells])):
        note(f"{shown_path(site.own_plan)}: {change}")
    row = site.plan().by_name(name)
    assert row is not None
    return row


def _device(adapter: Adapter, site: Site) -> Device:
    """One of those that ask."""
    while True:
        asking = _who_asks(adapter, site)
        if not asking:
            note("nobody asks for an address yet; looking again, Ctrl-C ends it")
            continue
        columns = Columns("row", "mac", "maker", "asks by", "says", shrinks="says")
        print_rows(columns, list(enumerate(asking, 1)), _cells)
        if len(asking) == 1:
            words, usual = "which one? Enter for 1, or l to look again", "1"
        else:
            words, usual = f"which one? 1 to {len(asking)}, or l to look again", "l"
        number = _asked(words, usual, _number_to(len(asking)))
        if number:
            return asking[number - 1]


def _who_asks(adapter: Adapter, site: Site) -> list[Device]:
    plan = site.plan()
    gathering = gathering_for(site, plan)
    orders = orders_for(adapter, site, gathering, methods=(Method.LISTEN,), listen=_LISTEN)
    orders = replace(orders, ranges=())
    note(f"listening on {adapter.name} who asks for an address, {_LISTEN:.0f} s …")
    with progress_bar() as draw:
        run(look(adapter, orders, gathering, progress=draw, tell=note))
    return [each for each in gathering.devices() if each.asks and not each.addresses and each.mac]


def _cells(row: tuple[int, Device]) -> Sequence[Text]:
    number, device = row
    protocols = ", ".join(each.protocol for each in device.asks)
    said = ", ".join(filter(None, (device.value(Field.NAME), what(device))))
    return (
        cell(number),
        cell(device.mac, "bold"),
        cell(device.value(Field.MAKER)),
        cell(protocols),
        cell(said),
    )


def _network(site: Site, plan: Plan, adapter: Adapter) -> IPv4Network:
    """The subnet of the devices: the site's, or this computer's, or what is answered."""
    known = networks_of(plan, site.subnets) or [own.network for own in adapter.interfaces]
    known = list(dict.fromkeys(known))
    if len(known) == 1:
        return known[0]
    if known:
        return _asked(
            f"in which subnet? {', '.join(map(str, known))}; Enter for the first",
            str(known[0]),
            parse_subnet,
        )
    return _asked("in which subnet? such as 10.61.20.0/24", None, parse_subnet)


def _asked_for_gateway(interface: IPv4Interface, usual: IPv4Address | None) -> IPv4Address | None:
    def read(text: str) -> IPv4Address | None:
        if text in ("-", "none"):
            return None
        gateway = parse_address(text)
        if gateway not in interface.network or gateway == interface.ip:
            raise BadInput(f"{gateway}: is no other host in {interface.network}")
        return gateway

    shown = usual if usual is not None else "none"
    return _asked(f"gateway? Enter for {shown}", str(shown), read)


def _usual_name(device: Device, interface: IPv4Interface, plan: Plan) -> str:
    """What the device calls itself, where that is a name, or what stands for its number."""
    own = device.value(Field.NAME) or ""
    if is_host_name(own) and plan.by_name(own) is None:
        return own
    usual = f"device-{interface.ip.packed[-1]}"
    return usual if plan.by_name(usual) is None else f"device-{interface.ip}".replace(".", "-")


def _interface_in(network: IPv4Network) -> Callable[[str], IPv4Interface]:
    def read(text: str) -> IPv4Interface:
        interface = parse_interface(text if "/" in text else f"{text}/{network.prefixlen}")
        if interface.ip not in network:
            raise BadInput(f"{interface.ip}: is not in {network}")
        return interface

    return read


def _number_to(most: int) -> Callable[[str], int]:
    def read(text: str) -> int:
        if text.casefold() == "l":
            return 0
        if not is_number(text) or not 1 <= int(text) <= most:
            raise BadInput(f"{printable(text, 40)}: is no number of the list")
        return int(text)

    return read


def _new_name(plan: Plan) -> Callable[[str], str]:
    def read(text: str) -> str:
        if not is_host_name(text):
            raise BadInput(f"{printable(text, 40)}: a name has letters, digits and hyphens")
        if plan.by_name(text) is not None:
            raise BadInput(f"{text}: is in the plan already")
        return text

    return read


def _asked(words: str, usual: str | None, read: Callable[[str], T]) -> T:
    """Ask until what is typed can be read; ``usual`` is what Enter stands for."""
    while True:
        typed = click.prompt(words, usual or "", show_default=False, err=True).strip()
        try:
            return read(typed)
        except Trouble as trouble:
            note(trouble)
