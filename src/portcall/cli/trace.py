"""``portcall trace``."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from ipaddress import IPv4Address

import click
from rich.text import Text

from portcall.cli.main import NO, YES
from portcall.cli.options import (
    adapter_option,
    capture_option,
    json_option,
    named_adapter,
    plan_if_sound,
    target_meant,
    works_on,
)
from portcall.cli.running import run
from portcall.cli.say import milliseconds, note, print_json, wants_json
from portcall.cli.table import Columns, cell, print_rows
from portcall.core.reach.trace import Hop, HopSays, way_back
from portcall.jobs.reach.trace import trace
from portcall.jobs.record.by import By
from portcall.jobs.why.why import prepare
from portcall.site.folder import this_site


@click.command("trace")
@click.argument("target", metavar="TARGET", required=False)
@click.option("--door", metavar="DOOR", help="Follow connections to this port: 502, cip, web.")
@adapter_option
@capture_option
@json_option
def trace_command(
    target: str | None,
    door: str | None,
) -> int:
    """Show the way to TARGET, hop by hop: an address or a planned name.

    Ends with 0 when TARGET itself answered.

    \b
    portcall trace 10.61.30.10
    portcall trace washer-plc --door cip
    """
    site = this_site()
    plan = plan_if_sound(site)
    target = target_meant(target, site, plan, By.ADDRESS)
    meant = prepare(target, door, named_adapter(), site, plan)
    works_on(meant.adapter, site)
    goal, adapter = meant.goal, meant.adapter
    path = run(trace(adapter, site, plan, goal.address, goal.port, note))
    names = {row.address: row.name for row in plan}
    end = _end(path, str(goal))
    if wants_json():
        print_json(_document(path, adapter.name, str(goal.address), names, end))
    else:
        if path:
            print_rows(_layout(), path, lambda hop: _cells(hop, names))
        note(end)
    return YES if path and path[-1].said is HopSays.REACHED else NO


def _end(path: Sequence[Hop], goal: str) -> str:
    """Where it ends, and who said so."""
    last = path[-1] if path else None
    if last is None:
        return f"{goal}: nobody on the way said anything: portcall why says more"
    if last.said is HopSays.REACHED:
        what = f", and the door is {last.reason}" if last.reason else ""
        back = way_back(path)
        return f"{goal} is reached in {_hops(last.hops)}{what}" + (f"; {back}" if back else "")
    who = " and ".join(str(address) for address in last.by) or "this computer"
    if last.said is HopSays.STOPPED:
        return f"it stops at hop {last.hops}: {who} says: {last.reason}"
    return f"behind hop {last.hops}, {who}, nobody says anything"


def _hops(count: int) -> str:
    return "one hop" if count == 1 else f"{count} hops"


def _layout() -> Columns:
    return Columns("hop", "address", "name", "lost", "median", "says", shrinks="says")


def _cells(hop: Hop, names: Mapping[IPv4Address, str]) -> Sequence[Text]:
    lost = len(hop.times) < hop.sent
    return (
        cell(hop.hops),
        cell(" ".join(str(address) for address in hop.by), "bold"),
        cell(" ".join(filter(None, (names.get(address) for address in hop.by)))),
        cell(f"{hop.sent - len(hop.times)} of {hop.sent}", "red" if lost else ""),
        cell(milliseconds(hop.middle)),
        cell(_SAYS[hop.said] if hop.said is not HopSays.STOPPED else hop.reason, _STYLES[hop.said]),
    )


_STYLES = {None: "", HopSays.PASSED_ON: "", HopSays.REACHED: "green", HopSays.STOPPED: "red"}
_SAYS = {
    None: "nothing",
    HopSays.PASSED_ON: "",
    HopSays.REACHED: "it is there",
    HopSays.STOPPED: "",
}


def _document(
    path: Sequence[Hop],
    adapter: str,
    address: str,
    names: Mapping[IPv4Address, str],
    end: str,
) -> dict[str, object]:
    return {
        "adapter": adapter,
        "address": address,
        "reached": bool(path) and path[-1].said is HopSays.REACHED,
        "end": end,
        "hops": [
            {
                "hop": hop.hops,
                "addresses": [str(address) for address in hop.by],
                "names": [names[address] for address in hop.by if address in names],
                "sent": hop.sent,
                "received": len(hop.times),
                "median_ms": None if hop.middle is None else round(hop.middle * 1000, 3),
                "says": hop.said.value if hop.said else None,
                "reason": hop.reason or None,
            }
            for hop in path
        ],
    }
