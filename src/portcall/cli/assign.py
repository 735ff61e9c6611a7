"""``portcall assign``."""

from __future__ import annotations

import asyncio
import secrets
import signal
from collections.abc import Sequence
from ipaddress import IPv4Interface

import click

from portcall.cli.assign_view import AssignView, view_for
from portcall.cli.main import INTERRUPTED, NO, YES
from portcall.cli.say import json_option, note
from portcall.cli.workplace import adapter_option, capture_option, chosen_adapter, record, this_site
from portcall.core.adapter import Adapter
from portcall.core.assign.board import Board
from portcall.core.assign.server import Event
from portcall.core.plan import Plan, PlannedDevice, parse_pair
from portcall.core.trouble import BadInput, NotPossibleHere
from portcall.host.jobs.lease import offers
from portcall.host.jobs.serve import serve
from portcall.host.privilege import Capability, require
from portcall.site.folder import Site


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
@click.option("--alongside", is_flag=True, help="Serve although another DHCP server is here.")
@adapter_option
@capture_option
@json_option
def assign_command(
    rows: tuple[str, ...],
    seconds: float | None,
    until_done: bool,
    alongside: bool,
    adapter_name: str | None,
    capture: str | None,
    as_json: bool,
) -> int:
    """Answer BOOTP and DHCP requests of planned devices with their planned address.

    Nobody else gets an answer. Names serve only those rows of the plan; MAC=ADDRESS stands in for
    a row, or adds one. Runs until Ctrl-C, --for or --until-done; ends with 0 when every device
    served has its address and answers there.
    """
    plan = _served(this_site(), rows)
    adapter = chosen_adapter(adapter_name)
    record(adapter, capture)
    plan = _in_reach(plan, adapter)
    require(Capability.NET_RAW, Capability.NET_BIND_SERVICE)
    board = Board(plan)
    return asyncio.run(
        _assign(adapter, plan, board, view_for(board, as_json), seconds, until_done, alongside)
    )


def _served(site: Site, words: Sequence[str]) -> Plan:
    """The rows to serve. Raises BadInput."""
    plan = site.plan()
    pairs = [parse_pair(word, site.subnets) for word in words if "=" in word]
    names = [word for word in words if "=" not in word]
    for name in names:
        if plan.by_name(name) is None:
            listed = ", ".join(row.name for row in plan) or "no rows"
            raise BadInput(f"{name}: is not in the plan, which has {listed}")
    for pair in pairs:
        plan = plan.with_pair(pair)
    if names:
        kept = {name.casefold() for name in names}
        macs = {pair.mac for pair in pairs}
        chosen = (r for r in plan if r.name.casefold() in kept or r.mac in macs)
        plan = Plan(tuple(chosen))
    unready = [row.name for row in plan if row.mac is None]
    if unready:
        note(f"no MAC in the plan yet, not served: {', '.join(unready)}")
    served = tuple(row for row in plan if row.mac is not None)
    if not served:
        raise BadInput(
            "nothing to serve: give the plan's rows a MAC, or type MAC=ADDRESS "
            "(02-77-B1-4C-09-21=10.61.20.21/24)"
        )
    return Plan(served)


def _in_reach(plan: Plan, adapter: Adapter) -> Plan:
    """The rows in a subnet of this adapter. Raises BadInput and NotPossibleHere."""
    inside: list[PlannedDevice] = []
    for row in plan:
        own: IPv4Interface | None = adapter.on_subnet_of(row.address)
        if own is not None and own.ip == row.address:
            raise BadInput(
                f"{row.address}: the plan gives it to {row.name}, and this computer has it on "
                f"{adapter.name}; portcall restore, or choose another address"
            )
        if own is not None:
            inside.append(row)
    outside = [row for row in plan if row not in inside]
    if not inside:
        row = outside[0]
        raise NotPossibleHere(
            f"{adapter.name} is not in the subnet of {row.name} ({row.interface.network}); "
            f"first: portcall match {row.address}"
        )
    for row in outside:
        note(f"{row.name} is not served, {row.address} is outside {adapter.name}'s subnets")
    return Plan(tuple(inside))


async def _assign(
    adapter: Adapter,
    plan: Plan,
    board: Board,
    view: AssignView,
    seconds: float | None,
    until_done: bool,
    alongside: bool,
) -> int:
    loop = asyncio.get_running_loop()
    others = await offers(adapter, secrets.randbits(32))
    for other in others:
        sentence = f"another DHCP server is here: {other.server} at {other.server_mac}"
        if not alongside:
            raise NotPossibleHere(
                f"{sentence}; it offers {other.address}. Unplug it, or serve --alongside it"
            )
        note(sentence)
    stop = asyncio.Event()
    interrupted = False

    def interrupt() -> None:
        nonlocal interrupted
        interrupted = True
        stop.set()

    def report(event: Event) -> None:
        now = loop.time()
        board.take(event, now)
        view.event(event, now)
        if until_done and not board.missing:
            stop.set()

    loop.add_signal_handler(signal.SIGINT, interrupt)
    if seconds is not None:
        loop.call_later(seconds, stop.set)
    count = len(board.rows)
    devices = "1 device" if count == 1 else f"{count} devices"
    with view.open(f"serving {devices} on {adapter.name}"):
        await serve(adapter, plan, report, stop)
    view.summary()
    if interrupted:
        return INTERRUPTED
    return NO if board.missing else YES
