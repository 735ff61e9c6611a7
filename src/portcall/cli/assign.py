"""``portcall assign``."""

from __future__ import annotations

import sys
from contextlib import AbstractContextManager, nullcontext
from dataclasses import replace
from functools import partial
from pathlib import Path

import click

from portcall.cli.asking import row_by_asking
from portcall.cli.main import INTERRUPTED, NO, YES
from portcall.cli.options import (
    adapter_option,
    capture_option,
    chosen_adapter,
    group_option,
    json_option,
)
from portcall.cli.running import run, run_until_interrupted
from portcall.cli.say import note, wants_json
from portcall.cli.views.assign import view_for
from portcall.cli.views.questions import Questions
from portcall.core.adapters.adapter import Adapter
from portcall.core.address import parse_range
from portcall.core.assign.event import Event
from portcall.core.counted import counted
from portcall.core.plan.rows import Plan
from portcall.core.plan.targets import with_group
from portcall.core.trouble import BadInput
from portcall.core.wire.dhcp import INFINITE
from portcall.jobs.assign.assignment import Assignment, HowToAssign, looked_before, network_to_lend
from portcall.jobs.assign.rows import Served, in_reach, rows_to_serve
from portcall.jobs.assign.silent import where_the_silent_are
from portcall.jobs.workstation.visit import visit
from portcall.site.folder import PlanState, Site, this_site
from portcall.site.makers import maker_lookup

_SHORTEST_LEASE = 10


@click.command("assign")
@click.argument("rows", nargs=-1, metavar="[NAME | MAC=ADDRESS[/N]]…")
@click.option(
    "--for",
    "seconds",
    metavar="SECONDS",
    type=click.FloatRange(0, 1e6, min_open=True),
    help="Stop after this time.",
)
@click.option("--until-done", is_flag=True, help="Stop when every device has its address.")
@click.option(
    "--match",
    "match",
    is_flag=True,
    help="Put this computer into the subnet meanwhile, and back afterwards; with names it goes "
    "by itself.",
)
@click.option("--keep", is_flag=True, help="Have each device keep its address when it answers.")
@click.option("--ask", is_flag=True, help="Ask here which planned row an unknown device is.")
@click.option(
    "--temporary",
    metavar="RANGE",
    help="Lend unknown DHCP devices an address for some minutes, to identify them.",
)
@click.option(
    "--lease",
    default="forever",
    show_default=True,
    metavar="SECONDS",
    help="For how long a DHCP device may use its address without asking again.",
)
@click.option(
    "--reply",
    type=click.Choice(("as-asked", "broadcast")),
    default="as-asked",
    help="Broadcast is for devices that hear nothing else.",
)
@click.option("--alongside", is_flag=True, help="Serve although another DHCP server is here.")
@group_option
@adapter_option
@capture_option
@json_option
def assign_command(
    rows: tuple[str, ...],
    seconds: float | None,
    until_done: bool,
    match: bool,
    keep: bool,
    ask: bool,
    temporary: str | None,
    lease: str,
    reply: str,
    alongside: bool,
    group: str | None,
) -> int:
    """Answer BOOTP and DHCP requests of planned devices with their planned address.

    Nobody else gets an answer. Where there is no plan yet, who asks is listed, and you are asked
    which address each gets; that becomes the plan. Without a word all of the plan is served; with
    names, and with MAC=ADDRESS for a device that the plan does not have so, only those. The plan
    may be edited meanwhile. Runs until Ctrl-C, --for or --until-done; ends with 0 when every device
    served has its address and answers there, and with --keep, holds it when the power goes.

    \b
    portcall assign --keep
    portcall assign 02-77-B1-4C-09-21=10.61.20.21/24 --until-done
    """
    at_terminal = sys.stdin.isatty() and sys.stdout.isatty()
    if ask and (wants_json() or not at_terminal):
        raise BadInput("--ask needs a person at a terminal to answer, and no --json")
    options = HowToAssign(
        _lease_seconds(lease), seconds, until_done, keep, reply == "broadcast", alongside
    )
    site = this_site()
    if ask and site.folder is None:
        # The answers are written into a plan, which makes this folder a site.
        site = replace(site, folder=Path.cwd())
    is_first = not (rows or group or ask or temporary or wants_json()) and at_terminal
    if is_first and not site.plan().devices:
        return _assign_first(site, replace(options, until_done=True))
    seen = site.plan_state()
    if group is not None:
        rows = with_group(rows, group, site.plan())
    wanted = rows_to_serve(site, rows, may_be_empty=ask or temporary is not None, tell=note)
    adapter = chosen_adapter(next((row.address for row in wanted), None))
    # Who names devices means these: where this computer is not with them, it goes there. What is
    # served through a relay is served from where this computer is.
    own = {each.ip for each in adapter.interfaces}
    stays = any(row.circuit or row.address in own for row in wanted)
    goes_in = match or (bool(rows) and not stays)
    with _while_serving(adapter, wanted, site) if goes_in else nullcontext(adapter) as adapter:
        served = Served(site, rows, adapter)
        plan = in_reach(wanted, adapter, tell=note)
        if temporary is not None:
            span = parse_range(temporary)
            options = replace(options, span=span, network=network_to_lend(served, span))
        return _assign(served, plan, options, seen, ask)


def _assign_first(site: Site, options: HowToAssign) -> int:
    """There is no plan: who asks is asked about, and each that is served is a row of the plan."""
    if site.folder is None:
        site = replace(site, folder=Path.cwd())
    adapter = chosen_adapter()
    code = YES
    while True:
        row = row_by_asking(adapter, site)
        wanted = Plan((row,))
        with visit(adapter, row.address, site, note, wanted) as there:
            served = Served(site, (row.name,), there)
            code = max(code, _assign(served, wanted, options, None, False))
        if code == INTERRUPTED or not click.confirm("another device?", default=True, err=True):
            return code


def _lease_seconds(text: str) -> int:
    if text == "forever":
        return INFINITE
    if not text.isdecimal() or not _SHORTEST_LEASE <= int(text) < INFINITE:
        raise BadInput(f"--lease {text}: is {_SHORTEST_LEASE} seconds or more, or forever")
    return int(text)


def _while_serving(adapter: Adapter, plan: Plan, site: Site) -> AbstractContextManager[Adapter]:
    """The adapter while it is in the plan's first subnet, put back afterwards.

    That is the subnet of the first row that is served; where no row is yet, of the first at all.
    """
    row = next((row for row in plan if row.mac), next(iter((*plan, *site.plan())), None))
    return nullcontext(adapter) if row is None else visit(adapter, row.address, site, note, plan)


def _assign(
    served: Served,
    plan: Plan,
    options: HowToAssign,
    seen: PlanState | None,
    ask: bool,
) -> int:
    """Look for other servers, serve, and show it meanwhile."""
    before = run(looked_before(served, plan, options, note))

    def tell(event: object) -> None:
        assert isinstance(event, Event)
        with questions.aside() if questions is not None else nullcontext():
            view.event(event)
        if questions is not None:
            questions.heard(event)

    assignment = Assignment(served, plan, options, tell, seen)
    maker_of = maker_lookup(served.site.makers)
    view = view_for(assignment.board, maker_of, live=not ask)
    questions = Questions(assignment, served.site, maker_of) if ask else None
    count = len(plan.devices)
    devices = counted(count, "device")
    with view.open(f"serving {devices} on {served.adapter.name}"):
        work = partial(assignment.run, before)
        _, interrupted = run_until_interrupted(questions.asking(work) if questions else work)
    view.summary(assignment.malformed)
    if interrupted:
        return INTERRUPTED
    for fact in where_the_silent_are(served, plan, assignment.board.never_asked):
        note(fact)
    return YES if assignment.all_done else NO
