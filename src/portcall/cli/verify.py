"""``portcall verify``."""

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
)
from portcall.cli.running import run
from portcall.cli.say import milliseconds, note, print_json
from portcall.cli.table import Columns, cell, console, print_rows
from portcall.cli.views.devices import addresses, what
from portcall.core.adapters.adapter import Adapter
from portcall.core.find.device import Device
from portcall.core.plan.rows import Plan
from portcall.core.plan.targets import parse_device
from portcall.core.setting.power_cycle import Return
from portcall.core.trouble import BadInput
from portcall.core.verify.judgement import Judgement, Verdict
from portcall.jobs.setting.power_cycle import Cycled, watch_power_cycle
from portcall.jobs.verify.verify import Verified, verify
from portcall.site.folder import Site, this_site


@click.command("verify")
@click.option(
    "--power-cycle",
    "cycled",
    metavar="NAME",
    help="Watch this device be switched off and on instead: does it keep its address?",
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
    begin_capture(adapter, capture)
    if cycled is not None:
        return _power_cycle(adapter, site, plan, cycled, wait, as_json)
    verified = run(verify(adapter, site, plan, note))
    if as_json:
        rows = [_document(judgement) for judgement in verified.judgements]
        print_json({"rows": rows, "unplanned": [_other(device) for device in verified.unplanned]})
    else:
        _print(verified)
    return YES if verified.all_right else NO


def _print(verified: Verified) -> None:
    judgements = verified.judgements
    print_rows(_layout(), judgements, _cells, lambda judgement: judgement.findings)
    out = console()
    for device in verified.unplanned:
        known = addresses(device)
        where = f"at {known}" if known else "without an address"
        out.print(
            f"not in the plan: {device.mac or '–'} {where}, {what(device)}",
            style="yellow",
            soft_wrap=True,
        )
    for each in verified.not_run:
        note(f"not run: {each.method}: {each.reason}")
    note(f"{verified.right} of {len(judgements)} planned devices are right")


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


_WHAT_TO_DO = {
    Return.ASKING: "portcall keep {name} makes it hold an address, once it has one",
    Return.ELSEWHERE: "portcall move {name}",
    Return.MISSING: "look for it: portcall find",
}


def _power_cycle(
    adapter: Adapter, site: Site, plan: Plan, name: str, wait: float, as_json: bool
) -> int:
    """Watch a planned device vanish and return. Raises BadInput and NotPossibleHere."""
    meant = parse_device(name, plan)
    if meant.row is None:
        raise BadInput(f"{name}: is not in the plan, so no address is known that it should keep")
    cycled = watch_power_cycle(adapter, site, plan, meant, wait, note)
    if as_json:
        print_json(_cycled_document(cycled))
    else:
        _print_cycled(cycled)
    return YES if cycled.judged is Return.KEPT else NO


def _print_cycled(cycled: Cycled) -> None:
    name, judged = cycled.found.meant.name, cycled.judged
    verdict, colour = "does NOT keep its address", "red"
    if judged is Return.KEPT:
        verdict, colour = "keeps its address", "green"
    elif judged in (None, Return.NOT_OFF):
        verdict, colour = "not proven", "yellow"
    click.echo(f"{name}: {click.style(verdict, fg=colour, bold=True)}: {cycled.sentence}")
    to_do = _WHAT_TO_DO.get(judged) if judged else None
    if to_do:
        click.echo(f"    {to_do.format(name=name)}")


def _cycled_document(cycled: Cycled) -> dict[str, object]:
    found, seconds = cycled.found, cycled.seconds
    return {
        "name": found.meant.name,
        "mac": str(found.mac) if found.device else None,
        "address": str(found.meant.row.address) if found.meant.row else None,
        "verdict": cycled.judged,
        "seconds": None if seconds is None else round(seconds, 3),
        "findings": [cycled.sentence],
    }
