"""``portcall verify --power-cycle``: somebody switches a device off and on, and this watches."""

from __future__ import annotations

import asyncio

import click

from portcall.cli.main import NO, YES
from portcall.cli.say import note, print_json
from portcall.cli.targets import Located, locate, parse_device
from portcall.cli.workplace import maker_defaults
from portcall.core.adapters.adapter import Adapter
from portcall.core.plan.rows import Plan
from portcall.core.setting.power_cycle import PowerCycle, Return
from portcall.core.setting.whereabouts import Whereabout, Whereabouts
from portcall.core.trouble import BadInput
from portcall.host.jobs.follow import follow
from portcall.host.privilege import Privilege, require
from portcall.site.folder import Site

_WHAT_TO_DO = {
    Return.ASKING: "portcall keep {name} makes it hold an address, once it has one",
    Return.ELSEWHERE: "portcall move {name}",
    Return.MISSING: "look for it: portcall find",
}


def verify_power_cycle(
    adapter: Adapter, site: Site, plan: Plan, name: str, wait: float, as_json: bool
) -> int:
    """Watch a planned device vanish and return. Raises BadInput and NotPossibleHere."""
    meant = parse_device(name, plan)
    if meant.row is None:
        raise BadInput(f"{name}: is not in the plan, so no address is known that it should keep")
    require(Privilege.NET_RAW)
    (found,) = locate(adapter, site, plan, [meant])
    address = meant.row.address
    if found.device is None or address not in found.device.addresses:
        reason = found.reason or f"it is not at {address} now: portcall verify"
        return _show(found, None, reason, None, as_json)
    note(f"switch {meant.name} off and on; watching {found.mac} at {address}, {wait:.0f} s …")
    assert adapter.mac is not None
    device = Whereabouts(adapter.mac, found.mac, (address,), maker_defaults(site))
    cycle = PowerCycle(address)

    def tell(fact: Whereabout) -> None:
        before = cycle.was_off
        cycle.take(fact)
        if cycle.was_off and not before:
            note("it is off, or starting …")

    def over(now: float) -> bool:
        return cycle.judged(now) is not None

    done = asyncio.run(follow(adapter.name, device, over, wait, tell))
    judged = cycle.judged(float("inf")) if done else cycle.judged_at_last()
    return _show(found, judged, str(cycle), cycle.seconds(), as_json)


def _show(
    found: Located, judged: Return | None, sentence: str, seconds: float | None, as_json: bool
) -> int:
    name = found.meant.name
    if as_json:
        document = {
            "name": name,
            "mac": str(found.mac) if found.device else None,
            "address": str(found.meant.row.address) if found.meant.row else None,
            "verdict": judged,
            "seconds": None if seconds is None else round(seconds, 3),
            "findings": [sentence],
        }
        print_json(document)
    else:
        verdict, colour = "does NOT keep its address", "red"
        if judged is Return.KEPT:
            verdict, colour = "keeps its address", "green"
        elif judged in (None, Return.NOT_OFF):
            verdict, colour = "not proven", "yellow"
        click.echo(f"{name}: {click.style(verdict, fg=colour, bold=True)}: {sentence}")
        what = _WHAT_TO_DO.get(judged) if judged else None
        if what:
            click.echo(f"    {what.format(name=name)}")
    return YES if judged is Return.KEPT else NO
