"""``portcall why``."""

from __future__ import annotations

import click

from portcall.cli.main import NO, YES
from portcall.cli.options import (
    adapter_option,
    capture_option,
    json_option,
    named_adapter,
    plan_if_sound,
    target_and_door,
    works_on,
)
from portcall.cli.running import run
from portcall.cli.say import print_json, wants_json
from portcall.cli.views.why import document, print_end, print_step
from portcall.core.plan.targets import with_part
from portcall.core.why.ladder import Step
from portcall.jobs.why.why import prepare
from portcall.site.folder import this_site


@click.command("why")
@click.argument("target", metavar="TARGET", required=False)
@click.argument("door", required=False, metavar="[DOOR]")
@adapter_option
@capture_option
@json_option
def why_command(
    target: str | None,
    door: str | None,
) -> int:
    """Say why TARGET is not reachable, or that it is.

    TARGET is an address or a planned name; DOOR a port by its number or trade name: 502, cip, web.
    A part of a device is named by its own row, or as NAME:unit-17, NAME:slot-3, NAME:port-2.
    It climbs from the cable to the program, and stops at the first rung that does not hold. Nothing
    of this computer is changed. Ends with 0 when nothing is broken.

    \b
    portcall why dryer-plc
    portcall why dryer-plc cip
    portcall why weigh-gateway:unit-17
    """
    site = this_site()
    plan = plan_if_sound(site)
    target, door = target_and_door(*with_part(target, door), site, plan)
    climb = prepare(target, door, named_adapter(), site, plan)
    works_on(climb.adapter, site)

    def tell(fact: object) -> None:
        if isinstance(fact, Step) and not wants_json():
            print_step(fact)

    diagnosis = run(climb.run(tell))
    if wants_json():
        print_json(document(diagnosis))
    else:
        print_end(diagnosis)
    return YES if diagnosis.conclusion is None else NO
