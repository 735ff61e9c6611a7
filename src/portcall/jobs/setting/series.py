"""One device after the other, as a person connects them: all of them start at one address."""

from __future__ import annotations

import asyncio
from collections.abc import Sequence
from dataclasses import replace
from enum import Enum, auto
from ipaddress import IPv4Address
from typing import Protocol

from portcall.core.address import Mac
from portcall.core.find.device import Device
from portcall.core.find.sighting import Method
from portcall.core.finding import Finding
from portcall.core.plan.rows import Plan, PlannedDevice
from portcall.core.plan.targets import Meant
from portcall.core.setting.job import Outcome
from portcall.core.setting.series import Call, Occupants, Progress, Turn, call
from portcall.core.talk.pacer import Pacer
from portcall.core.trouble import BadInput, NotPossibleHere
from portcall.host.link import Link
from portcall.host.runner import End, Runner
from portcall.jobs.look.locate import Located, locate
from portcall.jobs.setting.blink import signal_once
from portcall.jobs.setting.mover import Mover
from portcall.jobs.setting.naming import names_for
from portcall.jobs.together import end


class Answer(Enum):
    """The answers of the person to a call."""

    YES = auto()
    SKIP = auto()
    """Another row first."""
    STOP = auto()
    OTHER = auto()
    """Not this device: another of those that are there."""
    BLINK = auto()
    """Have the device show itself first."""


class Person(Protocol):
    """The person who connects the devices: is told what to do, and answers."""

    def begin(self, start: IPv4Address, waiting: Sequence[str]) -> None:
        """These rows are to be moved from that address."""

    def passed_over(self, name: str, why: str) -> None:
        """A row needs no turn."""

    def comes_again(self, name: str, why: str) -> None:
        """A row that was done before has a turn again."""

    def turn(self, number: int, total: int, name: str) -> None:
        """A row's turn begins."""

    def called(self, call: Call, held: bool) -> None:
        """The devices there have changed. ``held``: it failed before, and waits for a yes."""

    def shown(self, mac: Mac, reason: Finding | None) -> None:
        """A device has flashed its lamp, or why not."""

    def bound(self, row: PlannedDevice, mac: Mac) -> None:
        """A row has its MAC in the plan now."""

    def moving(self, row: PlannedDevice) -> None:
        """A device is being moved."""

    def moved(self, which: Located, outcome: Outcome) -> None:
        """The device was moved, or not."""

    def end(self, finished: int, total: int) -> None:
        """The series is over, or stopped."""

    async def answer(self) -> Answer:
        """The next thing that the person says."""


class _Stopped(Exception):
    """The person has had enough."""


class Series:
    """Rows of the plan whose devices are moved from one address."""

    def __init__(self, mover: Mover, start: IPv4Address, named: bool, person: Person) -> None:
        self._mover = mover
        self._start = start
        self._named = named
        self._person = person
        self._done: dict[Mac, str] = {}

    def run(self, names: Sequence[str]) -> bool:
        """Go through the rows until all are done or the person stops; whether all are."""
        waiting: list[str] = [row.name for row in self._rows(names)]
        total, finished = len(waiting), 0
        self._person.begin(self._start, waiting)
        try:
            while waiting:
                name = waiting[0]
                self._person.turn(finished + 1, total, name)
                moved = self._one(name, waiting)
                if moved in waiting:
                    finished += 1
                    waiting.remove(moved)
                elif moved is None:
                    waiting.append(waiting.pop(0))
        except _Stopped:
            pass
        finally:
            self._person.end(finished, total)
        return not waiting

    def _rows(self, names: Sequence[str]) -> list[PlannedDevice]:
        """The rows that are left, in the plan's order or the one typed. Raises BadInput."""
        plan = self._mover.site.plan()
        chosen = [row for name in names if (row := plan.by_name(name))] or list(plan)
        written = self._mover.log.done()
        left, done = [], []
        for row in chosen:
            mac = written.get((row.name.casefold(), row.address))
            if mac is None or (row.mac is not None and row.mac != mac):
                left.append(row)
                continue
            self._done[mac] = row.name
            done.append(replace(row, mac=mac))
        if done and not left:
            return self._not_there(done, plan)
        for row in done:
            self._person.passed_over(row.name, "is done already")
        return left if names else self._without_arrived(left, plan)

    def _not_there(self, rows: list[PlannedDevice], plan: Plan) -> list[PlannedDevice]:
        """Of rows that are all done by the record, those whose devices are not there any more.

        Who types the line of a whole series again has reset the devices.
        """
        left = self._without_arrived(rows, plan)
        for row in left:
            why = (
                f"was moved before, and does not answer at {row.address} now: its turn comes again"
            )
            self._person.comes_again(row.name, why)
        return left

    def _without_arrived(self, rows: list[PlannedDevice], plan: Plan) -> list[PlannedDevice]:
        """Of the whole plan, rows whose device is there already need no turn."""
        mover = self._mover
        known = [Meant(row.name, row, row.mac) for row in rows]
        located = locate(mover.adapter, mover.site, plan, known, mover.tell)
        left = []
        for row, found in zip(rows, located, strict=True):
            if found.device is not None and row.address in found.device.addresses:
                self._person.passed_over(row.name, f"is at {row.address} already")
            else:
                left.append(row)
        return left

    def _one(self, name: str, waiting: Sequence[str]) -> str | None:
        """One device: its row's name when it is moved, None when another row is to be first."""
        held = False
        while True:
            plan = self._mover.site.plan()
            row = plan.by_name(name)
            if row is None:
                raise BadInput(f"{name}: is not in the plan any more")
            progress = Progress(plan, waiting, self._done)
            found = asyncio.run(self._connected(row, progress, held))
            if found is None:
                return None
            mac = found.mac
            assert mac is not None
            row = plan.by_name(found.name) or row
            if row.mac is None:
                row = self._bind(row, mac)
            device = Device(mac, (self._start,), methods=(Method.DCP,), rivals=found.others)
            which = Located(Meant(row.name, row, mac), device)
            called, unnamed = names_for(which.meant, None) if self._named else (None, ())
            self._person.moving(row)
            outcome = self._mover.move(which, called).with_findings(*unnamed)
            self._person.moved(which, outcome)
            if outcome.done:
                self._done[mac] = row.name
                return row.name
            held = True

    async def _connected(self, row: PlannedDevice, progress: Progress, held: bool) -> Call | None:
        """The device of a row, once it is there; None for another row first.

        ``held``: it failed before, and is tried again when the person says so.
        """
        own_mac = self._mover.adapter.mac
        if own_mac is None:
            raise NotPossibleHere(f"{self._mover.adapter.name} has no MAC: choose a wired adapter")
        current: Call | None = None
        here: frozenset[Mac] = frozenset()
        passed: list[Mac] = []
        ready = asyncio.Event()

        def report(there: frozenset[Mac]) -> None:
            nonlocal current, here
            here = there
            current = call(row, there, replace(progress, passed=passed))
            self._person.called(current, held)
            if current.turn is Turn.READY and not held:
                ready.set()

        runner = Runner(Pacer())
        with runner.using(Link(self._mover.adapter.name)) as link:
            ended = runner.start(Occupants(own_mac, self._start), link, report)
            while not ready.is_set():
                answer = await self._answer_or(ready, ended)
                if answer is Answer.STOP:
                    raise _Stopped
                if answer is Answer.SKIP:
                    return None
                if current is None or current.mac is None:
                    continue
                if answer is Answer.YES:
                    break
                if answer is Answer.BLINK:
                    self._person.shown(current.mac, await self._blink(current.mac))
                elif answer is Answer.OTHER:
                    # After the last device, the first one is next again.
                    passed = [*passed, current.mac] if len(passed) < len(here) - 1 else []
                    report(here)
        assert current is not None
        return current

    async def _blink(self, mac: Mac) -> Finding | None:
        """Have a device flash its lamp once; why it does not, or None."""
        return await signal_once(self._mover.adapter.name, mac)

    async def _answer_or(self, ready: asyncio.Event, ended: End) -> Answer | None:
        """The person's answer; None when the right device is there before."""
        answering = asyncio.ensure_future(self._person.answer())
        waits = (answering, *map(asyncio.ensure_future, (ready.wait(), ended.wait())))
        try:
            await asyncio.wait(waits, return_when=asyncio.FIRST_COMPLETED)
            if ended.is_set():
                ended.check()
            return answering.result() if answering.done() else None
        finally:
            for each in waits:
                await end(each)

    def _bind(self, row: PlannedDevice, mac: Mac) -> PlannedDevice:
        """Write a MAC into the row that has none; the row as it is then. Raises BadInput.

        The row is where the file has it now: the plan may have been edited while a person looked
        for the device.
        """
        site = self._mover.site
        site.adopt("1", mac, (row,))
        self._person.bound(row, mac)
        return site.plan().by_name(row.name) or row
