"""An assignment in progress: it serves, writes down, and follows the plan as it is edited."""

from __future__ import annotations

import asyncio
import secrets
from collections.abc import Sequence
from contextlib import closing
from dataclasses import dataclass, replace
from ipaddress import IPv4Network

from portcall.core.address import AddressRange, Mac
from portcall.core.assign import sentences as say
from portcall.core.assign.board import Board
from portcall.core.assign.event import Event, EventKind
from portcall.core.assign.lookout import Offer
from portcall.core.assign.reply import Replies
from portcall.core.assign.server import AddressServer
from portcall.core.assign.temporary import TEMPORARY_SECONDS, Lent, Pool, check_range
from portcall.core.finding import Finding
from portcall.core.plan.rows import Plan, PlannedDevice
from portcall.core.trouble import NotPossibleHere, Trouble
from portcall.jobs.assign.before import Before, look_before
from portcall.jobs.assign.keeper import Keeper
from portcall.jobs.assign.rows import Served
from portcall.jobs.assign.serve import Service, serving, watch_link
from portcall.jobs.telling import Tell
from portcall.jobs.together import end, together
from portcall.site.folder import PlanState
from portcall.site.logbook.assigned import AssignedLog
from portcall.site.logbook.settings import SettingsLog

_PLAN_LOOK = 0.5
"""Seconds between two looks whether the plan was edited."""

_FLUSH = 0.5


@dataclass(frozen=True, slots=True)
class HowToAssign:
    """How to serve. Times in seconds; ``span`` are the addresses to lend, in ``network``.

    ``seconds`` and ``until_done`` end the assignment by themselves; with ``keep`` each device is
    told to hold its address as it answers.
    """

    lease: int
    seconds: float | None = None
    until_done: bool = False
    keep: bool = False
    broadcast: bool = False
    alongside: bool = False
    span: AddressRange | None = None
    network: IPv4Network | None = None


@dataclass(frozen=True, slots=True)
class OtherServer:
    """Another DHCP server answers here, and the assignment goes on beside it."""

    offer: Offer

    def __str__(self) -> str:
        return f"another DHCP server is here: {self.offer}"


def network_to_lend(served: Served, span: AddressRange) -> IPv4Network:
    """The subnet of addresses to lend. Raises BadInput when they cannot be lent."""
    own = served.adapter.interfaces
    taken = {row.address for row in served.site.plan()} | {each.ip for each in own}
    return check_range(span, [each.network for each in own], taken)


async def looked_before(served: Served, plan: Plan, options: HowToAssign, tell: Tell) -> Before:
    """Look for everything there is to know before serving rows.

    Raises NotPossibleHere when there is another DHCP server, and the assignment is not to go
    ``alongside`` it.
    """
    before = await look_before(served.adapter, served.site, plan, tell)
    for offer in before.servers:
        other = OtherServer(offer)
        if not options.alongside:
            does = f"it offers {offer.address}" if offer.address else "it answers others"
            raise NotPossibleHere(f"{other}", f"{does}. Unplug it, or serve --alongside it")
        tell(other)
    return before


class Assignment:
    """Serves rows until it is over; ``tell`` is told of every event once the board has it.

    ``seen`` is how the plan's file was before ``plan`` was read from it: an edit since then counts.
    """

    def __init__(
        self,
        served: Served,
        plan: Plan,
        options: HowToAssign,
        tell: Tell,
        seen: PlanState | None = None,
    ) -> None:
        self.board = Board(plan)
        self.malformed = 0
        """Requests that could not be read, when it is over."""
        self._served = served
        self._plan = plan
        self._options = options
        self._tell = tell
        self._stop = asyncio.Event()
        self._keeper: Keeper | None = None
        self._service: Service | None = None
        self._trouble: Exception | None = None
        self._plan_seen = seen or served.site.plan_state()
        self._log: AssignedLog

    @property
    def all_done(self) -> bool:
        """Whether every device answers at its address, and holds it where that was asked for."""
        lost = self._options.keep and not self.board.all_kept
        return not (self.board.missing or lost)

    async def run(self, before: Before, interrupt: asyncio.Event) -> None:
        """Serve until it is over, or ``interrupt`` is set. Raises NotPossibleHere.

        ``before`` is what was seen before serving, and told. What ``tell`` raises ends the
        assignment at once, and is raised here.
        """
        adapter = self._served.adapter
        loop = asyncio.get_running_loop()
        if self._options.seconds is not None:
            loop.call_later(self._options.seconds, self._stop.set)
        with closing(AssignedLog(self._served.site.folder, adapter.name)) as self._log:
            server = self._server(before)
            with serving(adapter, server, self._report) as self._service:
                self._service.look_out(secrets.randbits(32), before.servers)
                await self._serve(interrupt)
            self.malformed = server.malformed
        if self._trouble is not None:
            raise self._trouble

    def _server(self, before: Before) -> AddressServer:
        served, options = self._served, self._options
        assert served.adapter.mac is not None
        return AddressServer(
            served.adapter.interfaces,
            self._plan,
            Replies(served.adapter.mac, served.site.surroundings, options.broadcast),
            options.lease,
            self._pool(),
            served.others(self._plan),
            served.site.pace.to_all,
            before.held,
        )

    def _pool(self) -> Pool | None:
        span, network = self._options.span, self._options.network
        if span is None or network is None:
            return None
        now = asyncio.get_running_loop().time()
        lent = [Lent(mac, address, now + left) for mac, address, left in self._log.still_lent()]
        return Pool(span, network, lent)

    async def _serve(self, interrupt: asyncio.Event) -> None:
        assert self._service is not None
        async with together() as tasks:
            if self._options.keep:
                log = SettingsLog(self._served.site.folder, self._served.adapter.name)
                site, adapter = self._served.site, self._served.adapter
                self._keeper = Keeper(adapter, site.pace.in_all, log, self._report, tasks)
            chores = [
                tasks.create_task(self._keep_flushing()),
                tasks.create_task(self._keep_following()),
                tasks.create_task(self._until_interrupted(interrupt)),
                *(tasks.create_task(each.wait()) for each in self._service.ends),
            ]
            await watch_link(self._served.adapter, self._report, self._stop)
            if self._keeper is not None:
                await self._keeper.finish(at_once=interrupt.is_set() or self._trouble is not None)
            for chore in chores:
                await end(chore)

    async def _until_interrupted(self, interrupt: asyncio.Event) -> None:
        await interrupt.wait()
        self._stop.set()

    def _report(self, event: Event) -> None:
        if self._trouble is not None:
            return
        lent = event.kind is EventKind.ASSIGNED and event.name is None
        try:
            self._log.write(event, TEMPORARY_SECONDS if lent else None)
        except OSError as error:
            self._cannot_write(error)
            return
        self.board.take(event, asyncio.get_running_loop().time())
        try:
            self._tell(event)
        except Exception as error:
            # The listener to these events has failed: nobody sees any more what is given.
            self._end_by(error)
            return
        if self._keeper is not None and event.kind is EventKind.ANSWERING:
            self._keeper.answered(event, self.board)
        may_end = event.kind in (EventKind.ANSWERING, EventKind.KEPT, EventKind.NOTICE)
        if may_end and self._options.until_done and self._is_done():
            self._stop.set()

    def _is_done(self) -> bool:
        kept = self._keeper is None or self._keeper.settled(self.board)
        return kept and not self.board.missing

    def _end_by(self, error: Exception) -> None:
        self._trouble = error
        if self._service is not None:
            self._service.stop()
        self._stop.set()

    def _cannot_write(self, error: OSError) -> None:
        """An address that cannot be written down is not given, and none after it."""
        self._end_by(
            NotPossibleHere(
                f"{self._log.path}: what is given cannot be written down: {error.strerror}; "
                "nothing more is given"
            )
        )

    async def _keep_flushing(self) -> None:
        while True:
            await asyncio.sleep(_FLUSH)
            # Writing to a disk may take time, and devices must not wait for it.
            try:
                await asyncio.to_thread(self._log.flush)
            except OSError as error:
                self._cannot_write(error)

    async def _keep_following(self) -> None:
        while True:
            await asyncio.sleep(_PLAN_LOOK)
            state = self._served.site.plan_state()
            if state != self._plan_seen:
                self._plan_seen = state
                self._read_plan()

    def _read_plan(self) -> None:
        """A good edit takes effect; with a bad one, what was good before stays."""
        try:
            plan = self._served.plan()
            others = self._served.others(plan)
        except Trouble as trouble:
            first = str(trouble).splitlines()[0]
            self._notice(say.PLAN_NOT_USED(because=first))
            return
        self.board.change(plan)
        if self._service is not None:
            self._service.change(plan, others)
        self._notice(say.PLAN_EDITED(count=len(plan.devices)))

    def adopt(self, answer: str, mac: Mac, rows: Sequence[PlannedDevice]) -> str | None:
        """Write into the plan which of some rows a device is, or which new one; then serve it.

        Gives the row's name, None for nobody. Raises BadInput, OSError.
        """
        name = self._served.site.adopt(answer, mac, rows)
        if name is not None:
            words = self._served.words
            if words and name not in words:
                self._served = replace(self._served, words=(*words, name))
            self._plan_seen = self._served.site.plan_state()
            self._read_plan()
        return name

    def rows_now(self) -> Plan:
        """The site's plan as it is now. Raises PlanError."""
        return self._served.site.plan()

    def _notice(self, told: Finding) -> None:
        self._report(Event(EventKind.NOTICE, None, told=told))
