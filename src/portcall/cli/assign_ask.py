"""Asking the engineer, line by line, which planned row an unknown device is."""

from __future__ import annotations

import asyncio
import os
import sys
from collections import deque
from collections.abc import Callable
from pathlib import Path

import click

from portcall.core.address import Mac
from portcall.core.assign.event import Event, EventKind
from portcall.core.plan.adopt import open_rows
from portcall.core.plan.rows import PlannedDevice
from portcall.core.trouble import Trouble
from portcall.site.folder import PLAN_FILE, Site, take_into_plan

_MOST_WAITING = 64


class Asker:
    """One question at a time; who was passed over is not asked about again.

    ``adopted`` is told the name of the row that a device became, once the plan has it.
    """

    def __init__(self, site: Site, words: tuple[str, ...], adopted: Callable[[str], None]) -> None:
        self._site = site
        self._adopted = adopted
        self._path = (site.folder or Path.cwd()) / PLAN_FILE
        self._waiting: deque[Event] = deque()
        self._known: set[Mac] = set()
        self._current: Event | None = None
        self._rows: tuple[PlannedDevice, ...] = ()
        self._typed = ""

    def open(self, loop: asyncio.AbstractEventLoop) -> None:
        """Listen to the terminal."""
        loop.add_reader(sys.stdin.fileno(), self._read, loop)

    def close(self, loop: asyncio.AbstractEventLoop) -> None:
        """Leave the terminal alone."""
        loop.remove_reader(sys.stdin.fileno())

    def heard(self, event: Event) -> None:
        """A stranger asks: a question, unless there was one about it."""
        asks = event.kind in (EventKind.IGNORED, EventKind.ASKED)
        if not asks or event.mac is None or event.mac in self._known:
            return
        if len(self._waiting) < _MOST_WAITING:
            self._known.add(event.mac)
            self._waiting.append(event)
            self._next()

    def _next(self) -> None:
        if self._current is not None or not self._waiting:
            return
        self._current = event = self._waiting.popleft()
        try:
            self._rows = open_rows(self._site.plan())
        except Trouble:
            self._rows = ()
        click.echo(f"\n{event.mac} asks by {event.protocol}: {event.detail}")
        for number, row in enumerate(self._rows, 1):
            place = f", {row.place}" if row.place else ""
            click.echo(f"  {number}  {row.name}  {row.interface}{place}")
        choices = "its number, or " if self._rows else ""
        click.echo(
            f"which row is it? {choices}NAME ADDRESS for a new one, or Enter for none: ", nl=False
        )
        sys.stdout.flush()

    def _read(self, loop: asyncio.AbstractEventLoop) -> None:
        typed = os.read(sys.stdin.fileno(), 4096)
        if not typed:
            self.close(loop)
            return
        *lines, self._typed = (self._typed + typed.decode(errors="replace")).split("\n")
        for line in lines:
            self._answered(line)

    def _answered(self, line: str) -> None:
        if self._current is None or self._current.mac is None:
            return
        try:
            name = self._adopt(line, self._current.mac)
        except Trouble as trouble:
            click.echo(f"{trouble}\nonce more, or Enter for none: ", nl=False)
            sys.stdout.flush()
            return
        except OSError as error:
            click.echo(f"{self._path}: cannot be written: {error.strerror}")
            name = None
        self._current = None
        if name is not None:
            click.echo(f"{name} is in the plan, and is served when it asks again")
            self._adopted(name)
        self._next()

    def _adopt(self, answer: str, mac: Mac) -> str | None:
        return take_into_plan(self._site, answer, mac, self._rows)
