"""``portcall find --watch``: a table that updates in place, or lines of what changed."""

from __future__ import annotations

import asyncio
import signal
import sys
from collections import deque
from collections.abc import Sequence
from contextlib import suppress
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from ipaddress import IPv4Address
from typing import Any

import click

from portcall.cli.find_view import Found, addresses, document, what, what_fields
from portcall.cli.looking import not_run_lines
from portcall.cli.main import INTERRUPTED
from portcall.cli.say import note, print_json_line
from portcall.cli.show import Columns, cell, console
from portcall.cli.workplace import adapters_now
from portcall.core.adapters.adapter import Adapter
from portcall.core.adapters.adapter_watch import ChangeKind
from portcall.core.address import AddressRange, Mac
from portcall.core.find.device import Device, in_order
from portcall.core.find.device_watch import DeviceChange, DeviceWatch, Happened
from portcall.core.find.devices import Gathering
from portcall.core.find.sighting import Field, Method
from portcall.host.jobs.look import Look, Orders
from portcall.host.jobs.watch import Cable, cable_of

_REFRESH = 0.5
_PAUSE = 1.0
"""Seconds between two looks in which nothing is sent: watching is not an excuse to load the wire
without end."""

_SILENT = (Method.LISTEN, Method.LLDP)

_FRESH = 6.0
_RECENT_SHOWN = 6
_STYLES = {
    Happened.APPEARED: "green",
    Happened.RETURNED: "green",
    Happened.CHANGED: "yellow",
    Happened.VANISHED: "bold red",
}


def keep_watching(
    adapter: Adapter,
    orders: Orders,
    gathering: Gathering,
    maker_defaults: Sequence[AddressRange],
    as_json: bool,
) -> int:
    """Look again and again until Ctrl-C."""
    live = not as_json and sys.stdout.isatty()
    watching = _Watching(adapter, gathering, maker_defaults, as_json, live)
    if live:
        from rich.live import Live

        with Live(console=console(), auto_refresh=False, screen=False) as view:
            watching.draw = lambda: view.update(watching.table(), refresh=True)
            asyncio.run(watching.run(orders))
    else:
        asyncio.run(watching.run(orders))
    if not as_json:
        note(f"watched {adapter.name}: {len(watching.present())} devices at the end")
    return INTERRUPTED


class _Watching:
    def __init__(
        self,
        adapter: Adapter,
        gathering: Gathering,
        maker_defaults: Sequence[AddressRange],
        as_json: bool,
        live: bool,
    ) -> None:
        self.draw: Any = lambda: None
        self._adapter = adapter
        self._gathering = gathering
        self._defaults = maker_defaults
        self._as_json = as_json
        self._live = live
        self._watch = DeviceWatch()
        self._recent: deque[tuple[datetime, DeviceChange]] = deque(maxlen=_RECENT_SHOWN)
        self._cable = Cable(has_link=True)
        self._looks = 0
        self._look_ended: float | None = None
        self._not_run: dict[str, None] = {}
        self._asked: set[tuple[IPv4Address, Mac | None]] = set()
        """Who was asked what it is, and where, and is still there: it is not asked again."""

    async def run(self, orders: Orders) -> None:
        """Looks, one after the other, with a pause between them."""
        loop = asyncio.get_running_loop()
        stopped = asyncio.Event()
        with suppress(NotImplementedError):
            loop.add_signal_handler(signal.SIGINT, stopped.set)
        drawing = asyncio.ensure_future(self._keep_drawing())
        try:
            async with cable_of(self._adapter.name) as self._cable:
                while not stopped.is_set():
                    await self._wait_for_link(stopped)
                    await self._look(orders, stopped)
                    orders = replace(orders, known=frozenset(address for address, _ in self._asked))
                    await self._pause(orders, stopped)
        finally:
            drawing.cancel()
            self.draw()

    async def _wait_for_link(self, stopped: asyncio.Event) -> None:
        """While the cable is out, nobody is looked for and nobody vanishes."""
        name = self._adapter.name
        if not self._cable.has_link:
            self._tell_of_link(
                ChangeKind.LINK_LOST, f"{name} has no link: the list is as it was, until it is back"
            )
            while not (stopped.is_set() or self._cable.has_link):
                await asyncio.sleep(_REFRESH)
            if self._cable.has_link:
                self._tell_of_link(ChangeKind.LINK_BACK, f"{name} has its link again")
        # It may have come back with other addresses, or been matched meanwhile.
        self._adapter = next((a for a in adapters_now() if a.name == name), self._adapter)

    async def _look(self, orders: Orders, stopped: asyncio.Event) -> None:
        self._watch.look_began(asyncio.get_running_loop().time())
        losses = self._cable.losses
        looking = Look(self._adapter, orders, self._gathering.add)
        if not await self._follow(looking, stopped) or self._cable.losses != losses:
            return
        for line in not_run_lines(looking.not_run):
            if line not in self._not_run:
                self._not_run[line] = None
                if not self._live:
                    note(line)
        self._looks += 1
        self._look_ended = asyncio.get_running_loop().time()
        self._gathering.forget(self._watch.vanished_before)
        self._compare(whole=True)
        self._asked = {
            (address, device.mac)
            for device in self.present()
            for address in device.addresses
            if address not in orders.known or (address, device.mac) in self._asked
        }

    async def _pause(self, orders: Orders, stopped: asyncio.Event) -> None:
        """Between two looks, what is heard counts too."""
        over = asyncio.get_running_loop().time() + _PAUSE
        heeded = [method for method in _SILENT if method in orders.methods]
        if heeded:
            listening = replace(orders, methods=heeded, listen=_PAUSE)
            await self._follow(Look(self._adapter, listening, self._gathering.add), stopped)
        with suppress(TimeoutError):
            await asyncio.wait_for(stopped.wait(), over - asyncio.get_running_loop().time())

    async def _follow(self, looking: Look, stopped: asyncio.Event) -> bool:
        """Look, and say meanwhile what is new; whether it came to its end."""
        look = asyncio.ensure_future(looking.run())
        stop = asyncio.ensure_future(stopped.wait())
        while not look.done() and not stop.done():
            await asyncio.wait((look, stop), timeout=_REFRESH, return_when=asyncio.FIRST_COMPLETED)
            self._compare(whole=False)
        stop.cancel()
        if not look.done():
            look.cancel()
            await asyncio.wait((look,))
            return False
        await look
        return True

    def _compare(self, whole: bool) -> None:
        devices = self._gathering.devices()
        for change in self._watch.compare(devices, whole):
            at = datetime.now(UTC)
            self._recent.append((at, change))
            if self._as_json:
                print_json_line(self._document(change, at))
            elif not self._live:
                click.echo(_line(at, change))

    def _document(self, change: DeviceChange, at: datetime) -> dict[str, object]:
        found = Found(self._gathering, self._adapter.interfaces, self._defaults)
        age = asyncio.get_running_loop().time() - change.device.heard
        return {
            "event": change.happened,
            "at": at.isoformat(timespec="milliseconds"),
            "last_heard": (at - timedelta(seconds=age)).isoformat(timespec="milliseconds"),
            "details": list(change.details),
            "device": document(change.device, found.remarks(change.device)),
        }

    def _tell_of_link(self, kind: ChangeKind, sentence: str) -> None:
        """Of this computer's own cable; a list that is drawn says it itself."""
        if self._as_json:
            at = datetime.now(UTC).isoformat(timespec="milliseconds")
            print_json_line({"event": kind, "at": at, "details": [sentence], "device": None})
        elif not self._live:
            note(sentence)

    async def _keep_drawing(self) -> None:
        while True:
            self.draw()
            await asyncio.sleep(_REFRESH)

    def present(self) -> list[Device]:
        """The devices that have not vanished."""
        return [d for d in self._gathering.devices() if not self._watch.is_gone(d)]

    def table(self) -> Any:
        """What is drawn: how fresh the list is, the list, and what happened last."""
        from rich.console import Group
        from rich.text import Text

        now = asyncio.get_event_loop().time() if self._live else 0.0
        shown = Columns(
            "address",
            "mac",
            "name",
            "what",
            "firmware",
            "told",
            "heard",
            drops=("firmware", "told"),
            shrinks="what",
        )
        for device in in_order(map(self._watch.as_it_was, self._gathering.devices())):
            gone = self._watch.is_gone(device)
            age = now - device.heard
            style = "red" if gone else "bold"
            heard = f"{'vanished, ' if gone else ''}{_ago(age)}"
            told = device.age(now, Field.NAME, Field.FIRMWARE, *what_fields(device))
            faint = "dim" if gone else ""
            shown.add_row(
                cell(addresses(device), style),
                cell(device.mac, faint),
                cell(device.value(Field.NAME), faint),
                cell(what(device), faint),
                cell(device.value(Field.FIRMWARE), faint),
                cell(_ago(told) if told is not None else None, faint),
                cell(heard, "bold red" if gone else "green" if age < _FRESH else ""),
            )
        state, style = "the first look is under way", "dim"
        if self._look_ended is not None:
            state = f"look {self._looks} ended {_ago(now - self._look_ended)}"
        if not self._cable.has_link:
            state, style = f"NO LINK: the list is as it was; {state}", "bold red"
        head = Text(f"watching {self._adapter.name}: {state}; Ctrl-C ends it", style=style)
        lines = [
            Text(_line(at, change), style=_STYLES[change.happened], no_wrap=True)
            for at, change in self._recent
        ]
        missing = [Text(sentence, style="yellow") for sentence in self._not_run]
        return Group(head, *missing, Text(""), shown, Text(""), *lines)


def _ago(seconds: float) -> str:
    if seconds < 1:
        return "now"
    if seconds < 120:
        return f"{seconds:.0f} s ago"
    return f"{seconds / 60:.0f} min ago"


def _line(at: datetime, change: DeviceChange) -> str:
    device = change.device
    parts = [
        addresses(device) or "no address",
        str(device.mac) if device.mac else "",
        device.value(Field.NAME) or what(device),
    ]
    who = "  ".join(part for part in parts if part)
    details = f": {'; '.join(change.details)}" if change.details else ""
    local = at.astimezone()
    return f"{local:%H:%M:%S}  {change.happened:<9} {who}{details}"
