"""``portcall find``."""

from __future__ import annotations

import asyncio

import click

from portcall.cli.find_view import Found, document, print_csv, print_table
from portcall.cli.looking import gathering_for, look, not_run_lines, orders_for
from portcall.cli.main import NO, YES
from portcall.cli.say import json_option, note, print_json_list
from portcall.cli.workplace import (
    adapter_option,
    capture_option,
    chosen_adapter,
    parse_targets,
    plan_if_sound,
    record,
    this_site,
)
from portcall.core.find.sighting import Method
from portcall.core.talk.pacer import HIGHEST_PACE
from portcall.core.trouble import BadInput
from portcall.host.jobs.look import LISTEN_SECONDS, WIRE_METHODS, Look
from portcall.site.catalogs import read_catalogs

LONGEST_LISTEN = 3600


@click.command("find")
@click.argument("ranges", nargs=-1, metavar="[RANGE]…")
@click.option(
    "--method",
    "methods",
    multiple=True,
    type=click.Choice([method.value for method in WIRE_METHODS]),
    help="Only this way of finding; may be repeated.",
)
@click.option(
    "--pace",
    type=click.FloatRange(0, HIGHEST_PACE, min_open=True),
    help="Packets a second; the site's, or 200.",
)
@click.option("--unpaced", is_flag=True, help="As fast as it goes: never where machines run.")
@click.option("--large", is_flag=True, help="Take ranges of more than 65,536 addresses.")
@click.option(
    "--listen",
    type=click.FloatRange(0, LONGEST_LISTEN),
    default=LISTEN_SECONDS,
    show_default=True,
    help="Seconds to listen at least; switches announce themselves every 30.",
)
@click.option("--watch", is_flag=True, help="Keep looking, and show what changes.")
@click.option("--csv", "as_csv", is_flag=True, help="Print CSV instead.")
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
    as_csv: bool,
    adapter_name: str | None,
    capture: str | None,
    as_json: bool,
) -> int:
    """Find and identify the devices on the wire.

    RANGE is a subnet (10.61.20.0/24), a range (10.61.20.5-40), an address or a planned name.
    Without one: the adapter's subnets, the site's, and the makers' default addresses that site and
    catalogue name. This computer need not be in any of them: where it is not, it borrows an address
    there for the time of asking, and keeps its own.

    Ctrl-C shows what was found so far.
    """
    if (pace and unpaced) or (as_csv and (as_json or watch)):
        raise BadInput("--pace with --unpaced, or --csv with --json or --watch: choose one")
    site = this_site()
    plan = plan_if_sound(site)
    catalog = read_catalogs(site.folder)
    named = parse_targets(ranges, plan, large)
    adapter = chosen_adapter(adapter_name)
    wanted = [Method(method) for method in methods] or list(WIRE_METHODS)
    gathering = gathering_for(site, plan, catalog)
    orders = orders_for(adapter, site, plan, catalog, named, wanted, pace, unpaced, listen)
    record(adapter, capture)
    if watch:
        from portcall.cli.find_watch import keep_watching

        return keep_watching(adapter, orders, gathering, site.maker_defaults, as_json)
    looked = asyncio.run(look(adapter, orders, gathering))
    found = Found(gathering, adapter.interfaces, site.maker_defaults)
    if as_json:
        entries = (document(device, found.remarks(device)) for device in found.devices)
        not_run = [{"method": n.method, "reason": n.reason} for n in looked.look.not_run]
        borrowed = [str(each.interface) for each in looked.look.borrowed]
        tail = {
            "not_run": not_run,
            "borrowed": borrowed,
            "interrupted": looked.interrupted,
            "link_losses": looked.cable.losses,
        }
        print_json_list({"adapter": adapter.name}, "devices", entries, tail)
    elif as_csv:
        print_csv(found)
    elif found.devices:
        print_table(found)
    if not as_json:
        _tell(adapter.name, len(found.devices), looked.look, looked.interrupted)
    return looked.code(YES if found.devices else NO)


def _tell(adapter: str, count: int, looked: Look, interrupted: bool) -> None:
    plural = "device" if count == 1 else "devices"
    note(f"{count or 'no'} {plural} on {adapter}" + (" so far: interrupted" if interrupted else ""))
    if not count and not interrupted:
        note("nothing was heard: is this the right adapter, and has the plant power?")
    if looked.borrowed:
        shown = ", ".join(str(each.interface) for each in looked.borrowed)
        note(f"asked from {shown}, borrowed for this look; this computer's addresses are unchanged")
    for line in not_run_lines(looked.not_run):
        note(line)
