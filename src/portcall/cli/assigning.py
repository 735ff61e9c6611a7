"""An assignment in progress: serving, showing, asking, and following the plan as it is edited."""

from __future__ import annotations

import asyncio
import secrets
import signal
import sys
from contextlib import closing
from dataclasses import dataclass, replace
from ipaddress import IPv4Network
from typing import TYPE_CHECKING

from portcall.cli.assign_ask import Asker
from portcall.cli.assign_keep import Keeper
from portcall.cli.assign_view import view_for
from portcall.cli.main import INTERRUPTED, NO, YES
from portcall.cli.say import note
from portcall.core.address import AddressRange
from portcall.core.assign.board import Board
from portcall.core.assign.event import Event, EventKind
from portcall.core.assign.lookout import Offer
from portcall.core.assign.reply import Replies
from portcall.core.assign.server import AddressServer
from portcall.core.assign.temporary import TEMPORARY_SECONDS, Lent, Pool
from portcall.core.plan.rows import Plan
from portcall.core.trouble import BadInput, NotPossibleHere, Trouble
from portcall.host.jobs.lease import offers
from portcall.host.jobs.serve import Service, serving, watch_link
from portcall.site.given import Given
from portcall.site.makers import maker_lookup
from portcall.site.record import Record

if TYPE_CHECKING:
    from portcall.cli.assign import Served

_PLAN_LOOK = 0.5
"""Seconds between two looks whether the plan was edited."""

_FLUSH = 0.5


@dataclass(frozen=True, slots=True)
class Options:
    """How to serve. Times in seconds; ``span`` are the addresses to lend, in ``network``."""

    seconds: float | None
    until_done: bool
    ask: bool
    keep: bool
    lease: int
    broadcast: bool
    alongside: bool
    span: AddressRange | None
    network: IPv4Network | None


def check_terminal(as_json: bool) -> None:
    """Raise BadInput where nobody could be asked."""
    if as_json or not sys.stdin.isatty():
        raise BadInput("--ask needs a person at a terminal to answer, and no --json")


async def assign(served: Served, plan: Plan, options: Options, as_json: bool) -> int:
    """Serve until it is over; the exit code."""
    adapter = served.adapter
    assert adapter.mac is not None
    known = await offers(adapter, secrets.randbits(32))
    for other in known:
        sentence = f"another DHCP server is here: {other.server} at {other.server_mac}"
        if not options.alongside:
            raise NotPossibleHere(
                f"{sentence}; it offers {other.address}. Unplug it, or serve --alongside it"
            )
        note(sentence)
    with closing(Given(served.site.folder)) as given:
        replies = Replies(adapter.mac, served.site.surroundings, options.broadcast)
        pool = _pool(options, given)
        server = AddressServer(
            adapter.interfaces,
            plan,
            replies,
            options.lease,
            pool,
            served.others(plan),
            served.site.pace,
        )
        assignment = _Assignment(served, plan, options, as_json, given)
        return await assignment.run(server, known)


def _pool(options: Options, given: Given) -> Pool | None:
    if options.span is None or options.network is None:
        return None
    now = asyncio.get_running_loop().time()
    lent = [Lent(mac, address, now + left) for mac, address, left in given.still_lent()]
    return Pool(options.span, options.network, lent)


class _Assignment:
    def __init__(
        self, served: Served, plan: Plan, options: Options, as_json: bool, given: Given
    ) -> None:
        self._served = served
        self._options = options
        self._given = given
        self._board = Board(plan)
        maker_of = maker_lookup(served.site.makers)
        self._view = view_for(self._board, as_json, maker_of, live=not options.ask)
        self._loop = asyncio.get_running_loop()
        self._stop = asyncio.Event()
        self._interrupted = False
        self._asker: Asker | None = None
        self._keeper: Keeper | None = None
        if options.keep:
            log = Record(served.site.folder)
            self._keeper = Keeper(served.adapter, served.site.pace, log, self._report)
        self._plan_seen = self._plan_state()
        self._service: Service | None = None
        self._trouble: NotPossibleHere | None = None

    async def run(self, server: AddressServer, known: tuple[Offer, ...]) -> int:
        for number in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):
            self._loop.add_signal_handler(number, self._interrupt)
        if self._options.seconds is not None:
            self._loop.call_later(self._options.seconds, self._stop.set)
        count = len(self._board.rows)
        devices = "1 device" if count == 1 else f"{count} devices"
        adapter = self._served.adapter
        with (
            self._view.open(f"serving {devices} on {adapter.name}"),
            serving(adapter, server, self._report) as self._service,
        ):
            self._service.look_out(secrets.randbits(32), known)
            chores = [
                asyncio.ensure_future(self._keep_flushing()),
                asyncio.ensure_future(self._keep_following()),
            ]
            if self._options.ask:
                self._asker = Asker(self._served.site, self._served.words, self._adopted)
                self._asker.open(self._loop)
            try:
                await watch_link(adapter, self._report, self._stop)
            finally:
                if self._keeper is not None and not self._interrupted:
                    await self._keeper.finish()
                for chore in chores:
                    chore.cancel()
                if self._asker is not None:
                    self._asker.close(self._loop)
        self._view.summary(server.malformed)
        if self._trouble is not None:
            raise self._trouble
        if self._interrupted:
            return INTERRUPTED
        lost = self._keeper is not None and not self._board.all_kept
        return NO if self._board.missing or lost else YES

    def _interrupt(self) -> None:
        self._interrupted = True
        self._stop.set()

    def _report(self, event: Event) -> None:
        now = self._loop.time()
        lent = event.kind is EventKind.ASSIGNED and event.name is None
        try:
            self._given.note(event, TEMPORARY_SECONDS if lent else None)
        except OSError as error:
            self._cannot_record(error)
            return
        self._board.take(event, now)
        self._view.event(event, now)
        if self._asker is not None and event.name is None:
            self._asker.heard(event)
        if self._keeper is not None and event.kind is EventKind.ANSWERING:
            self._keeper.answered(event, self._board)
        may_end = event.kind in (EventKind.ANSWERING, EventKind.KEPT, EventKind.NOTICE)
        if may_end and self._options.until_done and self._is_done():
            self._stop.set()

    def _is_done(self) -> bool:
        kept = self._keeper is None or self._keeper.settled(self._board)
        return kept and not self._board.missing

    def _cannot_record(self, error: OSError) -> None:
        """What cannot be written down is not given, and nothing after it."""
        self._trouble = NotPossibleHere(
            f"{self._given.path}: what is given cannot be written down: {error.strerror}; "
            "nothing more is given"
        )
        if self._service is not None:
            self._service.stop()
        self._stop.set()

    async def _keep_flushing(self) -> None:
        while True:
            await asyncio.sleep(_FLUSH)
            # A disk may take its time, and devices are not to wait for it.
            try:
                await asyncio.to_thread(self._given.flush)
            except OSError as error:
                self._cannot_record(error)

    async def _keep_following(self) -> None:
        while True:
            await asyncio.sleep(_PLAN_LOOK)
            self._follow_plan()

    def _plan_state(self) -> tuple[int, int, int] | None:
        path = self._served.site.plan_path
        try:
            state = path.stat() if path else None
        except OSError:
            return None
        return (state.st_mtime_ns, state.st_size, state.st_ino) if state else None

    def _follow_plan(self) -> None:
        state = self._plan_state()
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
            self._notice(f"the edited plan is not used, the last good one stays: {first}")
            return
        self._board.change(plan)
        if self._service is not None:
            self._service.change(plan, others)
        count = len(plan.devices)
        self._notice(
            f"the plan was edited: {count} {'row is' if count == 1 else 'rows are'} served"
        )

    def _adopted(self, name: str) -> None:
        words = self._served.words
        if words and name not in words:
            self._served = replace(self._served, words=(*words, name))
        self._plan_seen = self._plan_state()
        self._read_plan()

    def _notice(self, sentence: str) -> None:
        self._report(Event(EventKind.NOTICE, None, detail=sentence))
