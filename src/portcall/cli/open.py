"""``portcall open``."""

from __future__ import annotations

import re
import shlex
import sys
from collections.abc import Mapping

import click

from portcall.cli.main import NO, YES
from portcall.cli.options import (
    adapter_option,
    json_option,
    named_adapter,
    plan_if_sound,
    target_and_door,
    works_on,
)
from portcall.cli.running import run
from portcall.cli.say import note, print_json, wants_json
from portcall.core.find.web_page import PAGES
from portcall.core.finding import Line
from portcall.core.plan.targets import parse_device
from portcall.core.printable import printable
from portcall.core.talk.door_knock import DoorState
from portcall.core.trouble import BadInput, NotPossibleHere
from portcall.core.why.ladder import Goal
from portcall.jobs.look.meeting import Met
from portcall.jobs.reach.reach import reaches
from portcall.jobs.why.climb import Climb
from portcall.jobs.why.opening import (
    check_doors,
    has_display,
    opening,
    run_program,
)
from portcall.jobs.why.why import prepare
from portcall.site.folder import this_site

_USER = re.compile(r"[A-Za-z0-9_][A-Za-z0-9_.-]{0,63}")


@click.command("open")
@click.argument("target", metavar="TARGET", required=False)
@click.argument("door", required=False, metavar="[DOOR]")
@click.option("--user", default="", metavar="NAME", help="Who to be at the device, for SSH.")
@adapter_option
@json_option
def open_command(target: str | None, door: str | None, user: str) -> int:
    """Open TARGET's page in the browser, or another DOOR with the program for it.

    Without DOOR, its page when it has one; else what is open is listed. Nothing is opened that was
    not seen to answer. Where this computer is not in its subnet, a visit is offered first. Ends
    with the program's exit code. With --json, it tells and opens nothing.

    \b
    portcall open dryer-plc
    portcall open dryer-plc ssh --user panel
    """
    if user and not _USER.fullmatch(user):
        raise BadInput(f"{printable(user, 40)}: is no user name: letters, digits, dots and hyphens")
    site = this_site()
    plan = plan_if_sound(site)
    target, door = target_and_door(target, door, site, plan)
    meant = prepare(target, door, named_adapter(), site, plan)
    works_on(meant.adapter, site)
    if reaches(meant.adapter, meant.goal.address):
        return _opened(meant, target, user)
    visited = parse_device(target, plan)
    if not _would_visit(meant):
        raise NotPossibleHere(
            f"{meant.adapter.name} is not in the subnet of {meant.goal.address}; go in, and type "
            "this there",
            Line("visit", visited.name if visited.row else meant.goal.address),
        )
    from portcall.cli.visit import visit_device

    def there(now: Met) -> None:
        at = str(now.address)
        _opened(prepare(at, door, meant.adapter.name, site, plan), at, user)

    return visit_device(meant.adapter, site, plan, visited, first=there)


def _would_visit(meant: Climb) -> bool:
    """Whether a person is there who wants to be where the device is."""
    if wants_json() or not (sys.stdin.isatty() and sys.stderr.isatty()):
        return False
    note(f"{meant.adapter.name} is not in the subnet of {meant.goal.address}")
    return click.confirm("visit it? exit puts this computer back", default=True, err=True)


def _opened(meant: Climb, target: str, user: str) -> int:
    goal, adapter, names = meant.goal, meant.adapter, meant.doors
    ports = [goal.port] if goal.port is not None else list(names)
    states = run(check_doors(adapter, meant.pace, goal.address, ports))
    open_now = [port for port, state in states.items() if state is DoorState.OPEN]
    if wants_json():
        doors = [{"port": port, "name": names.get(port)} for port in sorted(open_now)]
        print_json({"address": str(goal.address), "open": doors})
        return YES if open_now else NO
    if goal.port is None:
        page = next((port for port in PAGES if port in open_now), None)
        if page is None:
            return _list(goal, open_now, names)
        return _open(goal, page, user)
    if goal.port not in open_now:
        state = "refused" if states.get(goal.port) is DoorState.REFUSED else "silent"
        note(f"{goal}: {goal.door_words} is {state}: portcall why {target} {goal.port}")
        return NO
    return _open(goal, goal.port, user)


def _list(goal: Goal, open_now: list[int], names: Mapping[int, str]) -> int:
    if not open_now:
        note(f"{goal}: has no page, and no usual door is open: portcall why {goal.name}")
        return NO
    note(f"{goal} has no page; open are:")
    for port in sorted(open_now):
        click.echo(f"{port} {names.get(port, '')}".strip())
    return YES


def _open(goal: Goal, port: int, user: str) -> int:
    how = opening(goal.address, port, user)
    if how.page is not None:
        click.echo(how.page)
        if not has_display():
            note("there is no display here: open that address in a browser")
            return YES
        return YES if click.launch(how.page) == 0 else NO
    if how.program is not None:
        note(shlex.join(how.program))
        return run_program(how.program)
    if how.elsewhere:
        raise NotPossibleHere("no program for it is installed here", f"elsewhere: {how.elsewhere}")
    raise NotPossibleHere(f"{goal.door_words} is open", "no program is known here that opens it")
