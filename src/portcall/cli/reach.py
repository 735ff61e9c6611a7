"""``portcall reach``."""

from __future__ import annotations

from collections.abc import Sequence

import click
from rich.text import Text

from portcall.cli.main import NO, YES
from portcall.cli.options import (
    adapter_option,
    begin_capture,
    capture_option,
    chosen_adapter,
    json_option,
    plan_if_sound,
)
from portcall.cli.running import run
from portcall.cli.say import milliseconds, print_json
from portcall.cli.table import Columns, cell, print_rows
from portcall.core.plan.targets import parse_targets
from portcall.core.reach.statistics import Reachability
from portcall.jobs.reach.ping import reach
from portcall.site.folder import this_site


@click.command("reach")
@click.argument("targets", nargs=-1, required=True, metavar="TARGET…")
@click.option("--count", default=4, show_default=True, type=click.IntRange(1, 1000))
@click.option(
    "--interval",
    default=1.0,
    show_default=True,
    type=click.FloatRange(0.05, 60),
    help="Seconds from one echo to the next.",
)
@click.option(
    "--wait",
    default=1.0,
    show_default=True,
    type=click.FloatRange(0.05, 60),
    help="Seconds until an echo counts as lost.",
)
@adapter_option
@capture_option
@json_option
def reach_command(
    targets: tuple[str, ...],
    count: int,
    interval: float,
    wait: float,
    adapter_name: str | None,
    capture: str | None,
    as_json: bool,
) -> int:
    """Ping each TARGET: an address, a range, a subnet or a planned name.

    Ends with 0 when every target answered.
    """
    site = this_site()
    plan = plan_if_sound(site)
    spans = parse_targets(targets, plan)
    adapter = chosen_adapter(adapter_name)
    begin_capture(adapter, capture)
    addresses = [address for span in spans for address in span]
    results = run(reach(adapter, site.pace, addresses, count, interval, wait))
    names = {row.address: row.name for row in plan}
    if as_json:
        print_json({"adapter": adapter.name, "targets": [_document(result) for result in results]})
    else:
        print_rows(_layout(), results, lambda result: _cells(result, names.get(result.target)))
    return YES if all(result.answers for result in results) else NO


def _layout() -> Columns:
    return Columns(
        "address",
        "name",
        "echoes",
        "lost",
        "shortest",
        "median",
        "longest",
        "why",
        drops=("name", "median", "longest", "shortest"),
        shrinks="why",
    )


def _cells(result: Reachability, name: str | None) -> Sequence[Text]:
    return (
        cell(result.target, "bold"),
        cell(name),
        cell(f"{result.received} of {result.sent}"),
        cell(f"{result.loss:.0%}", "red" if result.received < result.sent else ""),
        cell(milliseconds(result.shortest)),
        cell(milliseconds(result.middle)),
        cell(milliseconds(result.longest)),
        cell(result.reason, "yellow"),
    )


def _document(result: Reachability) -> dict[str, object]:
    def ms(seconds: float | None) -> float | None:
        return None if seconds is None else round(seconds * 1000, 3)

    return {
        "address": str(result.target),
        "sent": result.sent,
        "received": result.received,
        "shortest_ms": ms(result.shortest),
        "median_ms": ms(result.middle),
        "longest_ms": ms(result.longest),
        "reason": result.reason,
    }
