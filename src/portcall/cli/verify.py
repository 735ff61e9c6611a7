"""``portcall verify``."""

from __future__ import annotations

import asyncio
from collections.abc import Sequence
from dataclasses import replace
from ipaddress import IPv4Address

import click
from rich.text import Text

from portcall.cli.find_view import addresses, what
from portcall.cli.looking import gathering_for, look, orders_for
from portcall.cli.main import NO, YES
from portcall.cli.say import json_option, milliseconds, note, print_json
from portcall.cli.show import Columns, cell, console, print_rows
from portcall.cli.workplace import (
    adapter_option,
    capture_option,
    chosen_adapter,
    record,
    this_site,
)
from portcall.core.adapters.adapter import Adapter
from portcall.core.find.device import Device
from portcall.core.plan.rows import Plan
from portcall.core.reach.ping import Replied, Unanswered
from portcall.core.reach.statistics import Reachability, summarise
from portcall.core.talk.pacer import BURST_SECONDS
from portcall.core.trouble import BadInput
from portcall.core.verify.judgement import Judgement, Verdict, judge, unplanned
from portcall.host.jobs.identify import identify
from portcall.host.jobs.look import QUICK_METHODS, NotRun
from portcall.host.jobs.ping import ping
from portcall.host.runner import paced
from portcall.site.catalogs import read_catalogs
from portcall.site.folder import Site

_BURST_SECONDS = BURST_SECONDS / 2
"""Behind each word to a program the kernel says one or two of its own, counted only afterwards."""
_ECHOES = 3
_ECHO_INTERVAL = 0.2
_ECHO_WAIT = 1.0


@click.command("verify")
@click.option(
    "--power-cycle",
    "cycled",
    metavar="NAME",
    help="Instead, watch this device be switched off and on: does it keep its address?",
)
@click.option(
    "--wait",
    default=120.0,
    show_default=True,
    metavar="SECONDS",
    type=click.FloatRange(0, 1e6, min_open=True),
    help="How long to watch for that.",
)
@adapter_option
@capture_option
@json_option
def verify_command(
    cycled: str | None, wait: float, adapter_name: str | None, capture: str | None, as_json: bool
) -> int:
    """Hold the plan against the wire: is each device there, the right one, and answering?

    Ends with 0 when every planned device is right.
    """
    site = this_site()
    plan = site.plan()
    if not plan.devices:
        raise BadInput("there is no plan to verify: no plan.csv in this folder or above it")
    adapter = chosen_adapter(adapter_name)
    record(adapter, capture)
    if cycled is not None:
        from portcall.cli.power_cycle import verify_power_cycle

        return verify_power_cycle(adapter, site, plan, cycled, wait, as_json)
    devices, reached, not_run = asyncio.run(_gather(adapter, site, plan))
    judgements = judge(plan, devices, reached)
    others = unplanned(plan, devices)
    right = [j for j in judgements if j.verdict is Verdict.RIGHT]
    if as_json:
        rows = [_document(judgement) for judgement in judgements]
        print_json({"rows": rows, "unplanned": [_other(device) for device in others]})
        return YES if len(right) == len(judgements) else NO
    print_rows(_layout(), judgements, _cells, lambda judgement: judgement.findings)
    out = console()
    for device in others:
        known = addresses(device)
        where = f"at {known}" if known else "without an address"
        out.print(
            f"not in the plan: {device.mac or '–'} {where}, {what(device)}",
            style="yellow",
            soft_wrap=True,
        )
    for each in not_run:
        note(f"not run: {each.method}: {each.reason}")
    note(f"{len(right)} of {len(judgements)} planned devices are right")
    return YES if len(right) == len(judgements) else NO


_WAITING = "bold yellow"
_STYLES = {
    Verdict.RIGHT: "bold green",
    Verdict.ASKING: _WAITING,
    Verdict.NO_ADDRESS: _WAITING,
}


def _layout() -> Columns:
    return Columns("name", "address", "verdict", "ping", "identity", shrinks="identity")


def _cells(judgement: Judgement) -> Sequence[Text]:
    return (
        cell(judgement.row.name, "bold"),
        cell(judgement.row.address),
        cell(judgement.verdict, _STYLES.get(judgement.verdict, "bold red")),
        cell(milliseconds(judgement.seconds)),
        cell(judgement.identity),
    )


async def _gather(
    adapter: Adapter, site: Site, plan: Plan
) -> tuple[tuple[Device, ...], dict[IPv4Address, Reachability], tuple[NotRun, ...]]:
    """Look, then ask the planned addresses that this computer can speak to."""
    catalog = read_catalogs(site.folder)
    gathering = gathering_for(site, plan, catalog)
    orders = orders_for(adapter, site, plan, catalog, methods=QUICK_METHODS)
    # What is elsewhere is named by its MAC; who it is matters once it is where it belongs.
    orders = replace(orders, borrows=False)
    looked = (await look(adapter, orders, gathering)).to_its_end()
    targets = [row.address for row in plan if adapter.on_subnet_of(row.address)]
    facts: list[Replied | Unanswered] = []
    with paced(adapter.name, site.pace, _BURST_SECONDS) as runner:
        said, _ = await asyncio.gather(
            identify(runner, adapter.name, targets),
            ping(runner, adapter, targets, _ECHOES, _ECHO_INTERVAL, _ECHO_WAIT, facts.append),
        )
    for seen in said:
        gathering.add(seen)
    reached = {r.target: r for r in summarise(targets, facts)}
    return gathering.devices(), reached, tuple(looked.not_run)


def _document(judgement: Judgement) -> dict[str, object]:
    row = judgement.row
    return {
        "name": row.name,
        "mac": str(row.mac) if row.mac else None,
        "address": str(row.address),
        "verdict": judgement.verdict,
        "findings": list(judgement.findings),
        "identity": judgement.identity,
    }


def _other(device: Device) -> dict[str, object]:
    return {
        "mac": str(device.mac) if device.mac else None,
        "addresses": [str(address) for address in device.addresses],
        "what": what(device) or None,
    }
