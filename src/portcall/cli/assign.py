"""``portcall assign``."""

from __future__ import annotations

import asyncio
from contextlib import AbstractContextManager, nullcontext
from dataclasses import dataclass, replace
from ipaddress import IPv4Interface
from pathlib import Path

import click

from portcall.cli.say import json_option, note
from portcall.cli.visiting import visit
from portcall.cli.workplace import (
    adapter_option,
    capture_option,
    chosen_adapter,
    record,
    this_site,
)
from portcall.core.adapters.adapter import Adapter
from portcall.core.address import parse_range
from portcall.core.assign.temporary import check_range
from portcall.core.plan.rows import Plan, PlannedDevice, parse_pair
from portcall.core.trouble import BadInput, NotPossibleHere
from portcall.core.wire.dhcp import INFINITE
from portcall.host.privilege import Privilege, require
from portcall.site.folder import Site

_SHORTEST_LEASE = 10


@dataclass(frozen=True, slots=True)
class Served:
    """Which rows are served: those typed, or all of the site's plan, as far as they can be."""

    site: Site
    words: tuple[str, ...]
    adapter: Adapter

    def plan(self) -> Plan:
        """The rows as the plan has them now. Raises BadInput and NotPossibleHere."""
        return in_reach(rows_to_serve(self.site, self.words, quiet=True), self.adapter, quiet=True)

    def others(self, plan: Plan) -> Plan:
        """The rows of the site's plan that are not served: their devices are left alone."""
        names = {row.name for row in plan}
        return Plan(tuple(row for row in self.site.plan() if row.name not in names))


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
@click.option("--match", "match", is_flag=True, help="Be in the subnet meanwhile, and back then.")
@click.option("--keep", is_flag=True, help="Tell each device to hold its address, as it answers.")
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
    help="For how long a DHCP device may hold its address without asking again.",
)
@click.option(
    "--reply",
    type=click.Choice(("as-asked", "broadcast")),
    default="as-asked",
    help="Broadcast is for devices that hear nothing else.",
)
@click.option("--alongside", is_flag=True, help="Serve although another DHCP server is here.")
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
    adapter_name: str | None,
    capture: str | None,
    as_json: bool,
) -> int:
    """Answer BOOTP and DHCP requests of planned devices with their planned address.

    Nobody else gets an answer. Names serve only those rows of the plan; MAC=ADDRESS stands in for
    a row, or adds one. The plan may be edited meanwhile. Runs until Ctrl-C, --for or --until-done;
    ends with 0 when every device served has its address and answers there, and with --keep, holds
    it when the power goes.
    """
    from portcall.cli.assigning import Options, assign, check_terminal

    if ask:
        check_terminal(as_json)
    lease_seconds = _lease_seconds(lease)
    site = this_site()
    if ask and site.folder is None:
        # The answers make a plan, and with it a site, where the engineer stands.
        site = replace(site, folder=Path.cwd())
    wanted = rows_to_serve(site, rows, may_be_empty=ask or temporary is not None)
    adapter = chosen_adapter(adapter_name)
    record(adapter, capture)
    with _while_serving(adapter, wanted, site) if match else nullcontext(adapter) as adapter:
        served = Served(site, rows, adapter)
        plan = in_reach(wanted, adapter)
        span = parse_range(temporary) if temporary else None
        network = None
        if span is not None:
            taken = {row.address for row in site.plan()} | {own.ip for own in adapter.interfaces}
            network = check_range(span, [own.network for own in adapter.interfaces], taken)
        require(Privilege.NET_RAW, Privilege.NET_BIND_SERVICE)
        options = Options(
            seconds,
            until_done,
            ask,
            keep,
            lease_seconds,
            reply == "broadcast",
            alongside,
            span,
            network,
        )
        return asyncio.run(assign(served, plan, options, as_json))


def _lease_seconds(text: str) -> int:
    if text == "forever":
        return INFINITE
    if not text.isdecimal() or not _SHORTEST_LEASE <= int(text) < INFINITE:
        raise BadInput(f"--lease {text}: is {_SHORTEST_LEASE} seconds or more, or forever")
    return int(text)


def rows_to_serve(
    site: Site, words: tuple[str, ...], may_be_empty: bool = False, quiet: bool = False
) -> Plan:
    """The rows that devices can be recognised by; says which are not. Raises BadInput."""
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
    unready = [row.name for row in plan if not row.is_served]
    if unready and not quiet:
        note(f"no MAC in the plan yet, not served: {', '.join(unready)}")
    served = tuple(row for row in plan if row.is_served)
    if not served and not may_be_empty:
        raise BadInput(
            "nothing to serve: give the plan's rows a MAC, or type MAC=ADDRESS "
            "(02-77-B1-4C-09-21=10.61.20.21/24), or let --ask find out who is who"
        )
    return Plan(served)


def in_reach(plan: Plan, adapter: Adapter, quiet: bool = False) -> Plan:
    """The plan, when this adapter can serve it; says what it can serve through a relay only.

    Raises BadInput and NotPossibleHere.
    """
    inside: list[PlannedDevice] = []
    outside: list[PlannedDevice] = []
    for row in plan:
        own: IPv4Interface | None = adapter.on_subnet_of(row.address)
        if own is not None and own.ip == row.address:
            raise BadInput(
                f"{row.address}: the plan gives it to {row.name}, and this computer has it on "
                f"{adapter.name}; portcall restore, or choose another address"
            )
        (outside if own is None else inside).append(row)
    if not adapter.interfaces or (outside and not inside and not any(r.circuit for r in outside)):
        if not outside:
            raise NotPossibleHere(
                f"{adapter.name} has no address to serve from; first: portcall match SUBNET"
            )
        row = outside[0]
        raise NotPossibleHere(
            f"{adapter.name} is not in the subnet of {row.name} ({row.interface.network}); "
            f"first: portcall match {row.address}, or add --match"
        )
    for row in outside:
        if not row.circuit and not quiet:
            note(
                f"{row.name} is served through a relay only, {row.address} is outside "
                f"{adapter.name}'s subnets"
            )
    return plan


def _while_serving(adapter: Adapter, plan: Plan, site: Site) -> AbstractContextManager[Adapter]:
    """The adapter while it is in the plan's first subnet, put back afterwards."""
    row = next((row for row in plan if row.mac), next(iter(plan), None))
    return nullcontext(adapter) if row is None else visit(adapter, row.address, site, plan)
