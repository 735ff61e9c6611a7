"""Keeping while assigning: as soon as a device answers at its address, it is told to hold it."""

from __future__ import annotations

import asyncio
from collections.abc import Callable
from contextlib import suppress

from portcall.core.adapters.adapter import Adapter
from portcall.core.assign import sentences as say
from portcall.core.assign.board import Board, RowState
from portcall.core.assign.event import Event, EventKind
from portcall.core.setting.had import Had
from portcall.core.setting.job import Job, Outcome, undone
from portcall.core.talk.pacer import sustained
from portcall.core.trouble import NotPossibleHere
from portcall.jobs.setting.keep_one import keep, keep_by_cip
from portcall.jobs.setting.log import remembering, written
from portcall.jobs.together import end
from portcall.site.logbook.settings import SettingsLog

_ATTEMPTS, _BETWEEN = 4, 1.0
"""A device answers by ARP before its programs have started."""

_PACKETS = 36
"""What this computer sends, its kernel too, to set one device by CIP: a plant that powers up all at
once is not set all at once."""

_LAST_WAIT = 8.0
"""Seconds given to those under way when the assignment ends: none is left in the middle."""


class Keeper:
    """Keeps devices one beside the other, begun at the pace; ``report`` is told how each went."""

    def __init__(
        self,
        adapter: Adapter,
        pace: float,
        log: SettingsLog,
        report: Callable[[Event], None],
        tasks: asyncio.TaskGroup,
    ) -> None:
        self._tasks = tasks
        self._adapter = adapter
        self._between = _PACKETS / sustained(pace)
        self._next_turn = 0.0
        self._ending = asyncio.Event()
        self._log = log
        self._report = report
        self._under_way: dict[str, asyncio.Task[None]] = {}
        self._tried: set[str] = set()
        self._being_set: set[str] = set()
        """Those whose settings are being changed: never left in the middle."""

    def answered(self, event: Event, board: Board) -> None:
        """A device answers at its address, perhaps after it had lost it."""
        row = next((row for row in board.rows if row.device.name == event.name), None)
        name = event.name
        if row is None or name is None or event.mac is None or name in self._under_way:
            return
        if row.state is RowState.KEPT:
            return
        job = Job(name, event.mac, row.device.interface, row.device.gateway)
        task = self._tasks.create_task(self._keep(job, event))
        self._under_way[name] = task
        task.add_done_callback(lambda _: self._under_way.pop(name, None))

    def settled(self, board: Board) -> bool:
        """Whether every row is kept, or was tried in vain."""
        names = {row.device.name for row in board.rows if row.state is not RowState.KEPT}
        return not self._under_way and names <= self._tried

    async def finish(self, at_once: bool = False) -> None:
        """Let those under way come to their end; ``at_once``, only those that are being set.

        No other is begun.
        """
        self._ending.set()
        if at_once:
            for name, task in tuple(self._under_way.items()):
                if name not in self._being_set:
                    await end(task)
            if self._being_set:
                told = say.BEING_SET(names=sorted(self._being_set))
                self._report(Event(EventKind.NOTICE, None, told=told))
        if self._under_way:
            await asyncio.wait(self._under_way.values(), timeout=_LAST_WAIT)
        for task in tuple(self._under_way.values()):
            await end(task)

    async def _turn_comes(self) -> bool:
        """Wait for a device's turn; False when the assignment ends before."""
        now = asyncio.get_running_loop().time()
        turn = max(now, self._next_turn)
        self._next_turn = turn + self._between
        with suppress(TimeoutError):
            await asyncio.wait_for(self._ending.wait(), turn - now)
        return not self._ending.is_set()

    async def _keep(self, job: Job, event: Event) -> None:
        if not await self._turn_comes():
            return
        try:
            outcome = written(self._log, job, await self._carry_out(job))
        except NotPossibleHere as trouble:
            outcome = undone(say.NOT_WRITTEN(because=str(trouble)))
        self._tried.add(job.name)
        self._under_way.pop(job.name, None)
        self._being_set.discard(job.name)
        if outcome.done:
            told = say.KEPT(protocol=outcome.by, settings=outcome.after)
            kind = EventKind.KEPT
        else:
            told = say.NOT_KEPT(because=outcome.findings[0])
            kind = EventKind.NOTICE
        self._report(Event(kind, job.mac, event.protocol, job.interface.ip, job.name, told))

    async def _carry_out(self, job: Job) -> Outcome:
        write = remembering(self._log, job)

        def remember(had: Had) -> None:
            write(had)
            self._being_set.add(job.name)

        for _ in range(_ATTEMPTS):
            outcome = await keep_by_cip(self._adapter.name, job, remember)
            if outcome is not None:
                return outcome
            await asyncio.sleep(_BETWEEN)
        return await keep(self._adapter.name, job, remember)
