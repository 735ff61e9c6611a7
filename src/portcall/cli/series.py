"""``portcall move --series``: one device after the other, as the person connects them."""

from __future__ import annotations

import asyncio
import os
import sys
from collections.abc import Sequence
from contextlib import closing
from ipaddress import IPv4Address
from typing import Any

import click

from portcall.cli.main import NO, YES
from portcall.cli.moving import Mover
from portcall.cli.outcomes import say_outcome
from portcall.cli.targets import Located, Meant, locate, names_for
from portcall.core.address import Mac
from portcall.core.find.device import Device
from portcall.core.find.sighting import Method
from portcall.core.plan.rows import Plan, PlannedDevice
from portcall.core.setting.series import Call, Occupants, Turn, call
from portcall.core.talk.pacer import Pacer
from portcall.core.trouble import BadInput, NotPossibleHere
from portcall.host.link import Link
from portcall.host.runner import Runner
from portcall.site.folder import take_into_plan

_STYLES: dict[Turn, dict[str, Any]] = {
    Turn.CONNECT: {"fg": "cyan", "bold": True},
    Turn.ASK: {"fg": "cyan", "bold": True},
    Turn.WRONG: {"fg": "yellow", "bold": True},
    Turn.READY: {},
}

_YES, _SKIP, _STOP = "", "s", "q"
_KEYS = "Enter: yes   s: another row first   q: stop"
_AGAIN = "Enter: try again   s: another row first   q: stop"


class _Stop(Exception):
    """The person has had enough."""


def check_series(meant: Sequence[Meant], plan: Plan, as_json: bool) -> None:
    """Raise BadInput where there are no rows for it, or nobody who connects the next device."""
    stranger = next((each.words for each in meant if each.row is None or each.address), None)
    if stranger is not None:
        raise BadInput(f"{stranger}: --series goes by the names of the plan's rows")
    if not plan.devices:
        raise BadInput("--series goes by the plan, and there is no plan.csv here or above")
    if as_json or not sys.stdin.isatty():
        raise BadInput("--series needs a person at a terminal who connects devices, and no --json")


class Series:
    """Rows of the plan whose devices are moved from one address."""

    def __init__(self, mover: Mover, start: IPv4Address, named: bool) -> None:
        self._mover = mover
        self._start = start
        self._named = named
        self._done: dict[Mac, str] = {}

    def run(self, names: list[str]) -> int:
        """Go through the rows until all are done or the person stops."""
        rows = self._rows(names)
        waiting = [row.name for row in rows]
        total, finished = len(waiting), 0
        click.echo(f"{total} to move from {self._start}: {', '.join(waiting) or 'none'}")
        try:
            while waiting:
                name = waiting.pop(0)
                click.echo(click.style(f"\n{finished + 1} of {total}: {name}", bold=True))
                if self._one(name):
                    finished += 1
                else:
                    waiting.append(name)
        except _Stop:
            waiting.insert(0, name)
        finally:
            click.echo(f"\n{finished} of {total} done")
            if finished < total:
                click.echo("the same line takes it up again where it stopped")
        return NO if waiting else YES

    def _rows(self, names: list[str]) -> list[PlannedDevice]:
        """The rows that are left, in the plan's order or the one typed. Raises BadInput."""
        plan = self._mover.site.plan()
        chosen = [row for name in names if (row := plan.by_name(name))] or list(plan)
        recorded = self._mover.log.done()
        left = []
        for row in chosen:
            mac = recorded.get((row.name.casefold(), row.address))
            if mac is None or (row.mac is not None and row.mac != mac):
                left.append(row)
                continue
            self._done[mac] = row.name
            click.echo(f"{row.name} is done already")
        return left if names else self._without_arrived(left, plan)

    def _without_arrived(self, rows: list[PlannedDevice], plan: Plan) -> list[PlannedDevice]:
        """Of the whole plan, rows whose device is there already need no turn."""
        adapter, site = self._mover.adapter, self._mover.site
        known = [Meant(row.name, row, row.mac) for row in rows]
        located = locate(adapter, site, plan, known)
        left = []
        for row, found in zip(rows, located, strict=True):
            if found.device is not None and row.address in found.device.addresses:
                click.echo(f"{row.name} is at {row.address} already")
            else:
                left.append(row)
        return left

    def _one(self, name: str) -> bool:
        """One device: True when it is moved, False when the person wants another row first."""
        held = False
        while True:
            plan = self._mover.site.plan()
            row = plan.by_name(name)
            if row is None:
                raise BadInput(f"{name}: is not in the plan any more")
            mac = asyncio.run(self._connected(row, plan, held))
            if mac is None:
                return False
            if row.mac is None:
                row = self._bind(row, mac)
            device = Device(mac, (self._start,), methods=(Method.DCP,))
            which = Located(Meant(row.name, row, mac), device)
            called, unnamed = names_for(which.meant, None) if self._named else (None, ())
            click.echo(f"moving it to {row.interface} …")
            outcome = self._mover.move(which, called).with_findings(*unnamed)
            say_outcome(which, outcome, f"is at {row.interface}")
            if outcome.done:
                self._done[mac] = row.name
                return True
            held = True

    async def _connected(self, row: PlannedDevice, plan: Plan, held: bool) -> Mac | None:
        """The device of a row, once it alone is there; None for another row first.

        ``held``: it failed before, and is tried again when the person says so.
        """
        loop = asyncio.get_running_loop()
        chosen: asyncio.Future[Mac | None] = loop.create_future()
        current: Call | None = None
        own_mac = self._mover.adapter.mac
        if own_mac is None:
            raise NotPossibleHere(f"{self._mover.adapter.name} has no MAC: choose a wired adapter")

        def report(there: frozenset[Mac]) -> None:
            nonlocal current
            current = call(row, there, plan, self._done)
            waits = current.turn is Turn.ASK or (held and current.turn is Turn.READY)
            click.echo(click.style(current.sentence, **_STYLES[current.turn]))
            if waits:
                click.echo(f"  {_AGAIN if held else _KEYS}")
            elif current.turn is Turn.READY and not chosen.done():
                chosen.set_result(current.mac)
            sys.stdout.flush()

        def typed() -> None:
            data = os.read(sys.stdin.fileno(), 1024)
            line = data.decode(errors="replace").strip().lower()
            if chosen.done():
                return
            # A terminal that is gone, or Ctrl-D, is no Enter: nobody said yes.
            if not data or line == _STOP:
                chosen.set_exception(_Stop())
            elif line == _SKIP:
                chosen.set_result(None)
            elif line == _YES and current is not None and current.mac is not None:
                chosen.set_result(current.mac)
            else:
                click.echo(f"  {_KEYS}")

        runner = Runner(Pacer())
        with closing(Link(self._mover.adapter.name)) as link:
            runner.start(Occupants(own_mac, self._start), link, report)
            loop.add_reader(sys.stdin.fileno(), typed)
            try:
                return await chosen
            finally:
                loop.remove_reader(sys.stdin.fileno())
                runner.drop(link)

    def _bind(self, row: PlannedDevice, mac: Mac) -> PlannedDevice:
        """Write a MAC into the row that has none; the row as it is then. Raises BadInput.

        The row is where the file has it now: the plan may have been edited while a person looked
        for the device.
        """
        site = self._mover.site
        take_into_plan(site, "1", mac, (row,))
        click.echo(f"{row.name} has the MAC {mac} in the plan now")
        return site.plan().by_name(row.name) or row
