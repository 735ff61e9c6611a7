"""Putting a look at the wire together for a command: what to look for, progress, interruption."""

from __future__ import annotations

import asyncio
import signal
import sys
from collections.abc import Callable, Collection, Iterator, Sequence
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from ipaddress import IPv4Address

from portcall.cli.main import INTERRUPTED, NOT_POSSIBLE
from portcall.cli.say import note
from portcall.cli.workplace import usual_ranges
from portcall.core.adapters.adapter import Adapter
from portcall.core.address import AddressRange
from portcall.core.catalog.catalog import Catalog
from portcall.core.find.devices import Gathering
from portcall.core.find.outlook import Outlook
from portcall.core.find.sighting import Method
from portcall.core.plan.rows import Plan
from portcall.core.trouble import NotPossibleHere
from portcall.host.jobs.look import LISTEN_SECONDS, WIRE_METHODS, Look, NotRun, Orders
from portcall.host.jobs.watch import Cable, cable_of
from portcall.site.folder import Site
from portcall.site.makers import maker_lookup

_REFRESH = 0.2


def gathering_for(site: Site, plan: Plan, catalog: Catalog) -> Gathering:
    """Where sightings become devices, with all the names this site has for them."""
    return Gathering(maker_lookup(site.makers), plan, catalog)


def orders_for(
    adapter: Adapter,
    site: Site,
    plan: Plan,
    catalog: Catalog,
    ranges: Sequence[AddressRange] = (),
    methods: Collection[Method] = WIRE_METHODS,
    pace: float | None = None,
    unpaced: bool = False,
    listen: float = LISTEN_SECONDS,
    known: Collection[IPv4Address] = (),
) -> Orders:
    """What to look for: the ranges named, or the usual ones, as the site has it."""
    gateways = [subnet.gateway for subnet in site.subnets if subnet.gateway]
    return Orders(
        ranges or usual_ranges(adapter, site, plan, catalog),
        None if unpaced else pace or site.pace,
        methods,
        listen,
        site.community,
        catalog.all_ports,
        [subnet.network for subnet in site.subnets],
        site.workstation,
        [*(row.address for row in plan), *gateways],
        known,
        ranges,
    )


@dataclass(frozen=True, slots=True)
class Looked:
    """A look that is over, whether Ctrl-C ended it, and how it was with the cable meanwhile."""

    look: Look
    interrupted: bool
    cable: Cable

    def code(self, otherwise: int) -> int:
        """The exit code of a command that shows what was found, however far the look came."""
        if self.interrupted:
            return INTERRUPTED
        return otherwise if self.cable.has_link else NOT_POSSIBLE

    def to_its_end(self) -> Look:
        """The look, for what is judged by all of it.

        Raises KeyboardInterrupt, and NotPossibleHere when the cable is out.
        """
        if self.interrupted:
            raise KeyboardInterrupt
        if not self.cable.has_link:
            raise NotPossibleHere("check the cable, and type this again")
        return self.look


async def look(
    adapter: Adapter,
    orders: Orders,
    gathering: Gathering,
    enough: Callable[[float], bool] = lambda seconds: False,
) -> Looked:
    """Look, with a bar on a terminal; says it when the link is lost meanwhile.

    ``enough`` may end it too: it is asked now and then, with the seconds since the beginning.
    """
    outlook = Outlook()
    looking = Look(adapter, orders, gathering.add, outlook)
    loop = asyncio.get_running_loop()
    began = loop.time()
    satisfied = False
    task = asyncio.ensure_future(looking.run())
    with suppress(NotImplementedError):
        loop.add_signal_handler(signal.SIGINT, task.cancel)
    try:
        async with cable_of(adapter.name) as cable:
            with _bar(outlook) as draw:
                while not task.done():
                    outlook.tick(loop.time())
                    draw()
                    if not satisfied and enough(loop.time() - began):
                        satisfied = True
                        task.cancel()
                    await asyncio.wait((task,), timeout=_REFRESH)
    finally:
        loop.remove_signal_handler(signal.SIGINT)
    if cable.losses:
        note(_lost(adapter.name, cable))
    if task.cancelled():
        return Looked(looking, not satisfied, cable)
    await task
    return Looked(looking, False, cable)


def not_run_lines(not_run: Sequence[NotRun]) -> list[str]:
    """What could not run, a line for each reason."""
    reasons: dict[str, list[str]] = {}
    for each in not_run:
        reasons.setdefault(each.reason, []).append(each.method)
    return [f"not run: {', '.join(methods)}: {reason}" for reason, methods in reasons.items()]


def _lost(adapter: str, cable: Cable) -> str:
    if not cable.has_link:
        return f"{adapter} lost its link meanwhile: what was not heard until then may be there"
    often = "once" if cable.losses == 1 else f"{cable.losses} times"
    return f"{adapter} lost its link {often} meanwhile, and has it again: some may not be heard"


@contextmanager
def _bar(outlook: Outlook) -> Iterator[Callable[[], None]]:
    """A bar on stderr with what goes on and how long it takes; nothing without a terminal."""
    if not sys.stderr.isatty():
        yield lambda: None
        return
    from rich.console import Console
    from rich.progress import BarColumn, Progress, TextColumn

    columns = (
        BarColumn(24, complete_style="cyan"),
        TextColumn("{task.fields[left]:>5}"),
        TextColumn("{task.description}", markup=False),
    )
    console = Console(stderr=True, markup=False, highlight=False)
    with Progress(*columns, console=console, transient=True) as progress:
        bar = progress.add_task("", total=1.0, left="")

        def draw() -> None:
            left = f"{outlook.seconds_left:.0f} s"
            stages = ", ".join(outlook.stages)
            progress.update(bar, completed=outlook.share, description=stages, left=left)

        yield draw
