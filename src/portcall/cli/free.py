"""``portcall free``."""

from __future__ import annotations

import click

from portcall.cli.main import NO, YES
from portcall.cli.options import adapter_option, capture_option, chosen_adapter, json_option
from portcall.cli.running import run
from portcall.cli.say import note, print_json, wants_json
from portcall.core.address import parse_range
from portcall.core.counted import named
from portcall.core.finding import Line
from portcall.core.plain import plain
from portcall.core.plan.unplanned import networks_of, own_span, unplanned
from portcall.core.talk.probe import Taken
from portcall.core.trouble import BadInput
from portcall.jobs.look.free import MOST, FreeNumbers, free_numbers
from portcall.jobs.workstation.match import not_for_devices
from portcall.site.folder import this_site

_USUAL = 5
_MOST_NAMED = 4


@click.command("free")
@click.argument("words", metavar="[SUBNET] [COUNT]", nargs=-1)
@adapter_option
@capture_option
@json_option
def free_command(words: tuple[str, ...]) -> int:
    """Say which addresses are free for devices to come: nobody has them, and no row of the plan.

    SUBNET is a subnet or a range; without it, the site's subnet that this computer is in. COUNT is
    how many, 5 without it. The lowest come first. Each is asked for on the wire, for 4 s. Left out
    are planned addresses, gateways, makers' defaults, and what is kept for this computer.
    A device that is switched off, or behind a router, does not answer: what no row of the plan has
    can seem free, and be that device's.

    \b
    portcall free
    portcall free 10.61.20.60-10.61.20.99 3
    """
    typed, count = _understood(words)
    span = parse_range(typed) if typed else None
    site = this_site()
    plan = site.plan()
    networks = networks_of(plan, site.subnets)
    adapter = chosen_adapter()
    span = span or own_span(adapter.interfaces, networks)
    choices = unplanned(span, networks, not_for_devices(site, plan), frozenset(site.starting))
    found = run(free_numbers(adapter, site.pace, choices, count, note))
    if wants_json():
        print_json(
            {
                "within": str(span),
                "wanted": count,
                "free": plain(found.free),
                "taken": [{"address": str(e.address), "mac": str(e.mac)} for e in found.taken],
                "probed": found.probed,
                "whole": found.is_whole,
            }
        )
    else:
        for address in found.free:
            click.echo(address)
        if found.taken:
            note(f"taken, and in no row: {named(list(map(_holder, found.taken)), _MOST_NAMED)}")
        note(_end(found, count, str(span), adapter.name))
    return YES if len(found.free) == count else NO


def _understood(words: tuple[str, ...]) -> tuple[str | None, int]:
    """The subnet that was typed, or None, and the count. Raises BadInput."""
    counts = [word for word in words if word.isascii() and word.isdigit()]
    spans = [word for word in words if word not in counts]
    if len(counts) > 1 or len(spans) > 1:
        raise BadInput(
            f"{' '.join(words)}: is more than one subnet and one count",
            Line("free", "SUBNET", "COUNT"),
        )
    count = int(counts[0][:9]) if counts else _USUAL
    if not 1 <= count <= MOST:
        raise BadInput(f"{counts[0]}: how many is a number from 1 to {MOST}", Line("free"))
    return (spans[0] if spans else None), count


def _holder(taken: Taken) -> str:
    return f"{taken.address} by {taken.mac}"


def _end(found: FreeNumbers, count: int, span: str, adapter: str) -> str:
    """What there is to do with it, or that it is not all."""
    within = span if found.is_whole else f"the first {found.probed:,} that were asked for in {span}"
    if not found.free:
        return f"none is free of {within}"
    line = Line("plan add", "NAME", found.free[0])
    if len(found.free) < count:
        return f"no more than {len(found.free)} are free of {within}; to plan one: {line}"
    return f"nobody on the wire of {adapter} answers there, and no row has one; to plan one: {line}"
