"""``portcall find``."""

from __future__ import annotations

import dataclasses
from collections.abc import Iterable, Sequence
from functools import partial
from ipaddress import IPv4Address
from time import monotonic

import click

from portcall.cli.looking import look_for_list
from portcall.cli.main import INTERRUPTED, NO, YES
from portcall.cli.options import (
    adapter_option,
    capture_option,
    chosen_adapter,
    group_option,
    json_option,
    plan_if_sound,
    say_what_rights_are_missing,
    targets_meant,
)
from portcall.cli.recording import recorded
from portcall.cli.running import run_until_interrupted
from portcall.cli.say import note, print_json_list, wants_json
from portcall.cli.table import wide_option
from portcall.cli.views.card import print_cards
from portcall.cli.views.devices import (
    Found,
    ending,
    not_run_lines,
    print_csv,
    print_found,
    summary,
)
from portcall.cli.views.inside import print_inside
from portcall.cli.views.watch import watch_view
from portcall.core.address import AddressRange, hosts
from portcall.core.counted import counted
from portcall.core.find.device import Device
from portcall.core.find.protocols import WIRE_METHODS
from portcall.core.find.sighting import Field
from portcall.core.part_path import parts_wanted
from portcall.core.plan.rows import Plan
from portcall.core.plan.targets import parse_targets, with_group
from portcall.core.record.entry import Kind
from portcall.core.record.look import device_document
from portcall.core.talk.pacer import HIGHEST_PACE
from portcall.core.trouble import BadInput
from portcall.jobs.look.findings import LISTEN_SECONDS, Orders
from portcall.jobs.look.looked import Looked
from portcall.jobs.look.orders import (
    gathering_for,
    of_rows,
    orders_for,
    with_inside,
    with_starting,
)
from portcall.jobs.look.watching import LookWatch
from portcall.jobs.record.by import By
from portcall.jobs.record.looks import look_body, scope
from portcall.jobs.record.reading import notes_about
from portcall.site.folder import this_site
from portcall.site.visits import this_visit

LONGEST_LISTEN = 3600


@click.command("find")
@click.argument("ranges", nargs=-1, metavar="[RANGE]…")
@click.option(
    "--method",
    "methods",
    multiple=True,
    type=click.Choice(list(WIRE_METHODS)),
    help="Use only this method of finding; may be repeated.",
)
@click.option(
    "--pace",
    metavar="PACKETS",
    type=click.FloatRange(0, HIGHEST_PACE, min_open=True),
    help="Packets a second in all; the site's, or 1000.",
)
@click.option("--unpaced", is_flag=True, help="Send as fast as possible: never where machines run.")
@click.option("--large", is_flag=True, help="Take ranges of more than 65,536 addresses.")
@click.option(
    "--listen",
    metavar="SECONDS",
    type=click.FloatRange(0, LONGEST_LISTEN),
    default=LISTEN_SECONDS,
    show_default=True,
    help="Seconds to listen at least; switches announce themselves every 30.",
)
@click.option("--watch", is_flag=True, help="Keep looking, and show what changes.")
@click.option("--inside", is_flag=True, help="Ask what is inside: interfaces, modules, units.")
@click.option(
    "--unit",
    "units",
    metavar="NUMBERS",
    help="The Modbus units to ask for, 1-32 or 1,7,17; all of 1-247 otherwise.",
)
@click.option("--slot", "slots", metavar="NUMBERS", help="The slots of a rack to ask for, 0-9.")
@click.option(
    "--beyond",
    multiple=True,
    metavar="SLOT=ADDRESS",
    help="A further rack, on the network of the module in SLOT; may be repeated.",
)
@click.option("--csv", "as_csv", is_flag=True, help="Print CSV instead.")
@wide_option
@group_option
@adapter_option
@capture_option
@json_option
def find_command(
    ranges: tuple[str, ...],
    methods: tuple[str, ...],
    pace: float | None,
    unpaced: bool,
    large: bool,
    listen: float,
    watch: bool,
    inside: bool,
    units: str | None,
    slots: str | None,
    beyond: tuple[str, ...],
    as_csv: bool,
    wide: bool,
    group: str | None,
) -> int:
    """Find and identify the devices on the wire.

    RANGE is a subnet (10.61.20.0/24), a range (10.61.20.5-40), an address or a planned name; one
    device alone is shown with all that is known of it, who said so and when.
    Without one: the adapter's subnets, the site's, and the makers' default addresses that site and
    catalogue name. This computer need not be in any of them: where it is not, it borrows an address
    there for the time of asking, and keeps its own.

    With --inside each device is asked for its interfaces, the modules in its rack and the Modbus
    units behind it: read only, one question at a time, and slowly, because a plant may be polling
    the same line. Name the device, and the units if you know which there may be.

    Ctrl-C shows what was found so far.

    \b
    portcall find
    portcall find weigh-gateway --unit 1-32
    portcall find 10.61.20.0/24 --csv > found.csv
    """
    if (pace and unpaced) or (as_csv and (wants_json() or watch)):
        raise BadInput("--pace with --unpaced, or --csv with --json or --watch: choose one")
    wants_inside = inside or units is not None or slots is not None or bool(beyond)
    if wants_inside and (watch or as_csv or not (ranges or group)):
        raise BadInput(
            "--inside asks devices one by one", "name them, and leave out --watch and --csv"
        )
    site = this_site()
    gathering = gathering_for(site, plan_if_sound(site))
    if ranges:
        ranges = targets_meant(ranges, site, gathering.plan, By.ADDRESS)
    ranges = with_group(ranges, group, gathering.plan)
    named = parse_targets(ranges, gathering.plan, large)
    adapter = chosen_adapter(harmless=True)
    if not named and this_visit():
        # In a visit one looks around where one is.
        named = tuple(hosts(own.network) for own in adapter.interfaces)
    say_what_rights_are_missing()
    wanted = [each for each in WIRE_METHODS if not methods or each in methods]
    asked_pace = site.pace if pace is None else dataclasses.replace(site.pace, in_all=pace)
    orders = orders_for(adapter, site, gathering, named, wanted, asked_pace, unpaced, listen)
    orders = with_starting(orders)
    if wants_inside:
        asked = parts_wanted(units, slots, beyond)
        asked = of_rows(asked, filter(None, map(gathering.plan.by_name, ranges)))
        orders = with_inside(orders, gathering, asked, unpaced)
    if watch:
        with watch_view(adapter, gathering, site) as view:
            watching = LookWatch(adapter, gathering, view.tell, view.refreshed)
            view.show(watching)
            run_until_interrupted(partial(watching.run, orders))
        if watching.whole_look is not None:
            there = watching.present()
            told = f"{counted(len(there), 'device')} at the end of a watch"
            body = look_body(watching.whole_look, there)
            recorded(site, Kind.LOOK, told, body, adapter=adapter.name)
        return INTERRUPTED
    whole, one = wants_json() or as_csv, _the_one(named)
    found, looked = look_for_list(
        adapter, site, gathering, orders, whole, not whole and one is None
    )
    meant = _meant(one, found, gathering.plan) if one is not None else []
    if wants_json():
        _print_json(found, looked)
    elif as_csv:
        print_csv(found)
    elif one is not None:
        print_cards(
            found,
            meant,
            monotonic(),
            lambda device: notes_about(site, gathering.plan, device.mac, device.addresses),
        )
        _print_inside(meant, gathering.plan, orders)
        if not meant:
            note(f"nothing was heard of {ranges[0]}: portcall why {ranges[0]}")
    elif found.devices:
        print_found(found, wide, numbered=True)
        _print_inside(found.devices, gathering.plan, orders)
    if not wants_json():
        _say_how_it_went(found, looked, is_list=one is None)
    return ending(looked, YES if (found.devices if one is None else meant) else NO)


def _the_one(named: Sequence[AddressRange]) -> IPv4Address | None:
    """The address, where nothing else was asked for."""
    return named[0].first if len(named) == 1 and len(named[0]) == 1 else None


def _print_inside(devices: Iterable[Device], plan: Plan, orders: Orders) -> None:
    """What is inside of each, where that was asked."""
    for device in devices:
        asked = (orders.inside(address) for address in device.addresses)
        wanted = next((each for each in asked if each is not None), None)
        if wanted is not None:
            name = device.value(Field.NAME) or str(device.addresses[0])
            print_inside(device, plan, name, wanted.units)


def _meant(address: IPv4Address, found: Found, plan: Plan) -> list[Device]:
    """The devices at an address, and the one that is planned there, wherever it is."""
    row = plan.by_address(address)
    mac = row.mac if row else None
    return [
        device
        for device in found.devices
        if address in device.addresses or (mac is not None and device.mac == mac)
    ]


def _print_json(found: Found, looked: Looked) -> None:
    entries = (device_document(device, found.remarks(device)) for device in found.devices)
    tail = {**summary(found), **scope(looked, found.devices)}
    print_json_list({"adapter": looked.look.adapter.name}, "devices", entries, tail)


def _say_how_it_went(found: Found, looked: Looked, is_list: bool) -> None:
    count, name = len(found.devices), looked.look.adapter.name
    plural = "device" if count == 1 else "devices"
    so_far = " so far: interrupted" if looked.interrupted else ""
    if is_list or so_far:
        note(f"{count or 'no'} {plural} on {name}{so_far}")
    if looked.look.asked_nothing:
        note("nobody could be asked from here, for these reasons:")
    elif not count and not looked.interrupted:
        note(
            "nothing was heard: is this the right adapter, has the plant power, and "
            "is its end of the cable in no router's uplink socket?"
        )
    if looked.look.borrowed:
        shown = ", ".join(str(each.interface) for each in looked.look.borrowed)
        note(f"asked from {shown}, borrowed for this look; this computer's addresses are unchanged")
    for line in not_run_lines(looked.look.not_run):
        note(line)
