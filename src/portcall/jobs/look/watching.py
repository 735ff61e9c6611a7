"""Looking again and again: who appears, vanishes, comes back or changes."""

from __future__ import annotations

import asyncio
from collections.abc import Callable, Iterator, Sequence
from contextlib import suppress
from dataclasses import dataclass, replace
from datetime import UTC, datetime, timedelta
from ipaddress import IPv4Address

from portcall.core.adapters.adapter import Adapter
from portcall.core.adapters.adapter_watch import ChangeKind
from portcall.core.address import AddressRange, Mac
from portcall.core.find.device import Device, in_order
from portcall.core.find.device_watch import DeviceChange, DeviceWatch
from portcall.core.find.devices import Gathering
from portcall.core.find.sighting import Method
from portcall.core.trouble import NotPossibleHere
from portcall.host.adapter_watch import Cable, cable_of
from portcall.host.adapters import read_adapters
from portcall.jobs.look.findings import NotRun, Orders
from portcall.jobs.look.look import Look
from portcall.jobs.telling import Tell
from portcall.jobs.together import end

REFRESH = 0.5
"""Seconds between two looks at what is new."""

_PAUSE = 1.0
"""Seconds between two looks in which nothing is sent: watching is not an excuse to load the wire
without end."""

_SILENT = (Method.LISTEN, Method.LLDP)


@dataclass(frozen=True, slots=True)
class Happening:
    """A change, when it was noticed, and when the device was last heard."""

    change: DeviceChange
    at: datetime
    last_heard: datetime


@dataclass(frozen=True, slots=True)
class LinkTold:
    """This computer's own cable or adapter was pulled out, or is in again."""

    adapter: str
    kind: ChangeKind
    for_a_moment: bool = False
    """It is back already; the look that was going on is made again."""

    def __str__(self) -> str:
        if self.for_a_moment:
            return (
                f"{self.adapter} lost its link for a moment: who changed meanwhile may not have "
                "been heard, and is asked again"
            )
        if self.kind is ChangeKind.LINK_BACK:
            return f"{self.adapter} has its link again"
        lost = "is gone from this computer"
        if self.kind is ChangeKind.LINK_LOST:
            lost = "has no link"
        return f"{self.adapter} {lost}: the list is as it was, until it is back"


@dataclass(frozen=True, slots=True)
class LookEnded:
    """A look came to its end; what could not run in it."""

    not_run: tuple[NotRun, ...]


class LookWatch:
    """Looks, one after the other, with a pause between them; tells of every change.

    ``refreshed`` is called about twice a second, and whenever a look is over: for who draws. While
    this computer's own cable is out, nobody is looked for and nobody vanishes.
    """

    def __init__(
        self,
        adapter: Adapter,
        gathering: Gathering,
        tell: Tell,
        refreshed: Callable[[], None] = lambda: None,
    ) -> None:
        self.adapter = adapter
        self.gathering = gathering
        self.cable = Cable(has_link=True)
        self.asked: Sequence[AddressRange] = ()
        """The addresses that each look asks one by one."""
        self.looks = 0
        self.look_ended: float | None = None
        """When the last whole look ended, on the loop's clock."""
        self.whole_look: Look | None = None
        """The first one that was whole: it asked everybody who they are."""
        self._tell = tell
        self._refreshed = refreshed
        self._watch = DeviceWatch()
        self._stop: asyncio.Event
        self._asked: set[tuple[IPv4Address, Mac | None]] = set()
        """Who was asked what it is, and where, and is still there: it is not asked again."""

    async def run(self, orders: Orders, stop: asyncio.Event) -> None:
        """Watch until ``stop`` is set. Raises NotPossibleHere."""
        self._stop, self.asked = stop, orders.ranges
        async with cable_of(self.adapter.name) as self.cable:
            while not stop.is_set():
                await self._wait_for_link()
                await self._look(orders)
                orders = replace(orders, known=frozenset(address for address, _ in self._asked))
                await self._pause(orders)
        self._refreshed()

    def present(self) -> list[Device]:
        """The devices that have not vanished."""
        return [d for d in self.gathering.devices() if not self._watch.is_gone(d)]

    def listed(self) -> Iterator[tuple[Device, bool]]:
        """Every device in the order of its address, and whether it has vanished; then as it was."""
        for device in in_order(map(self._watch.as_it_was, self.gathering.devices())):
            yield device, self._watch.is_gone(device)

    async def _wait_for_link(self) -> None:
        name = self.adapter.name
        if not self.cable.has_link:
            kind = ChangeKind.LINK_LOST if self.cable.is_there else ChangeKind.VANISHED
            self._tell(LinkTold(name, kind))
            while not (self._stop.is_set() or self.cable.has_link):
                self._refreshed()
                await asyncio.sleep(REFRESH)
            if self.cable.has_link:
                self._tell(LinkTold(name, ChangeKind.LINK_BACK))
        # It may have come back with other addresses, or been matched meanwhile.
        self.adapter = next((a for a in read_adapters() if a.name == name), self.adapter)

    async def _look(self, orders: Orders) -> None:
        loop = asyncio.get_running_loop()
        self._watch.look_began(loop.time())
        losses = self.cable.losses
        looking = Look(self.adapter, orders, self.gathering.add)
        went_through = False
        try:
            went_through = await self._follow(looking)
        except (NotPossibleHere, OSError):
            # An adapter that is gone cannot be asked: wait until it is back.
            if self.cable.losses == losses:
                raise
        if self.cable.losses != losses and self.cable.has_link and not self._stop.is_set():
            self._tell(LinkTold(self.adapter.name, ChangeKind.LINK_LOST, for_a_moment=True))
        if not went_through or self.cable.losses != losses:
            return
        self._tell(LookEnded(tuple(looking.not_run)))
        self.looks += 1
        self.look_ended = loop.time()
        self.whole_look = self.whole_look or looking
        self.gathering.forget(self._watch.vanished_before)
        self._compare(whole=True)
        self._asked = {
            (address, device.mac)
            for device in self.present()
            for address in device.addresses
            if address not in orders.known or (address, device.mac) in self._asked
        }

    async def _pause(self, orders: Orders) -> None:
        """Between two looks, what is heard counts too."""
        loop = asyncio.get_running_loop()
        over = loop.time() + _PAUSE
        heeded = [method for method in _SILENT if method in orders.methods]
        if heeded:
            listening = replace(orders, methods=heeded, listen=_PAUSE)
            with suppress(NotPossibleHere):
                await self._follow(Look(self.adapter, listening, self.gathering.add))
        with suppress(TimeoutError):
            await asyncio.wait_for(self._stop.wait(), over - loop.time())

    async def _follow(self, looking: Look) -> bool:
        """Look, and tell meanwhile what is new; whether the look came to its end."""
        look = asyncio.ensure_future(looking.run())
        stop = asyncio.ensure_future(self._stop.wait())
        try:
            while not look.done() and not stop.done():
                await asyncio.wait(
                    (look, stop), timeout=REFRESH, return_when=asyncio.FIRST_COMPLETED
                )
                self._compare(whole=False)
        finally:
            await end(stop)
            await end(look)
        if look.cancelled():
            return False
        look.result()
        return True

    def _compare(self, whole: bool) -> None:
        now = asyncio.get_running_loop().time()
        for change in self._watch.compare(self.gathering.devices(), whole):
            at = datetime.now(UTC)
            self._tell(Happening(change, at, at - timedelta(seconds=now - change.device.heard)))
        self._refreshed()
