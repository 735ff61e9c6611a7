"""The views of ``find --watch``: a table that updates in place, lines of changes, or JSON."""

from __future__ import annotations

import asyncio
import sys
from collections import deque
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, datetime
from typing import Any, Protocol

import click
from rich.console import Group
from rich.live import Live
from rich.text import Text

from portcall.cli.say import ago, note, print_json_line, wants_json
from portcall.cli.table import Columns, cell, console
from portcall.cli.views.devices import (
    Found,
    addresses,
    not_run_lines,
    what,
    what_fields,
)
from portcall.core.adapters.adapter import Adapter
from portcall.core.counted import counted
from portcall.core.find.device_watch import DeviceChange, Happened
from portcall.core.find.devices import Gathering
from portcall.core.find.sighting import Field
from portcall.core.record.look import device_document
from portcall.jobs.look.watching import Happening, LinkTold, LookEnded, LookWatch
from portcall.site.folder import Site

_FRESH = 6.0
_RECENT_SHOWN = 6
_STYLES = {
    Happened.APPEARED: "green",
    Happened.RETURNED: "green",
    Happened.CHANGED: "bold",
    Happened.VANISHED: "bold red",
}


class WatchView(Protocol):
    """How a list that is kept up to date is shown."""

    def show(self, watching: LookWatch) -> None:
        """This is what is to be shown."""

    def tell(self, fact: object) -> None:
        """Something happened."""

    def refreshed(self) -> None:
        """The list may be drawn again."""


@contextmanager
def watch_view(
    adapter: Adapter,
    gathering: Gathering,
    site: Site,
) -> Iterator[WatchView]:
    """JSON when asked for, a table that is redrawn on a terminal, else lines."""
    if wants_json():
        yield _JsonView(gathering, site)
        return
    view: _LiveView | _LineView
    if sys.stdout.isatty():
        with Live(console=console(), auto_refresh=False, screen=False) as live:
            yield (view := _LiveView(live))
    else:
        yield (view := _LineView())
    if view.watching is not None:
        count = len(view.watching.present())
        note(f"watched {adapter.name}: {counted(count, 'device')} at the end")


class _JsonView:
    """One line of JSON an event."""

    def __init__(self, gathering: Gathering, site: Site) -> None:
        self._gathering = gathering
        self._site = site
        self._watching: LookWatch | None = None
        self._missing = _Missing()

    def show(self, watching: LookWatch) -> None:
        """Show this from now on."""
        self._watching = watching

    def tell(self, fact: object) -> None:
        """Show what happened."""
        if isinstance(fact, Happening):
            print_json_line(self._document(fact))
        elif isinstance(fact, LinkTold):
            at = datetime.now(UTC).isoformat(timespec="milliseconds")
            print_json_line({"event": fact.kind, "at": at, "details": [str(fact)], "device": None})
        else:
            self._missing.say_new(fact)

    def refreshed(self) -> None:
        """The events have said it."""

    def _document(self, fact: Happening) -> dict[str, object]:
        assert self._watching is not None
        watching = self._watching
        own = watching.adapter.interfaces
        found = Found(self._gathering, own, self._site, asked=watching.asked)
        change = fact.change
        return {
            "event": change.happened,
            "at": fact.at.isoformat(timespec="milliseconds"),
            "last_heard": fact.last_heard.isoformat(timespec="milliseconds"),
            "details": list(change.details),
            "device": device_document(change.device, found.remarks(change.device)),
        }


class _LineView:
    """One line an event."""

    def __init__(self) -> None:
        self.watching: LookWatch | None = None
        self._missing = _Missing()

    def show(self, watching: LookWatch) -> None:
        """Show this from now on."""
        self.watching = watching

    def tell(self, fact: object) -> None:
        """Show what happened."""
        if isinstance(fact, Happening):
            click.echo(_line(fact.at, fact.change))
            sys.stdout.flush()
        elif isinstance(fact, LinkTold):
            note(fact)
        else:
            self._missing.say_new(fact)

    def refreshed(self) -> None:
        """The lines have said it."""


class _Missing:
    """Print the methods that could not run, each line once."""

    def __init__(self) -> None:
        self.lines: dict[str, None] = {}

    def new(self, fact: object) -> list[str]:
        """The lines that were not said before."""
        if not isinstance(fact, LookEnded):
            return []
        fresh = [line for line in not_run_lines(fact.not_run) if line not in self.lines]
        self.lines.update(dict.fromkeys(fresh))
        return fresh

    def say_new(self, fact: object) -> None:
        """Say them."""
        for line in self.new(fact):
            note(line)


class _LiveView:
    """The table, redrawn in place: how fresh it is, the devices, and what happened last."""

    def __init__(self, live: Live) -> None:
        self.watching: LookWatch | None = None
        self._live = live
        self._recent: deque[tuple[datetime, DeviceChange]] = deque(maxlen=_RECENT_SHOWN)
        self._missing = _Missing()

    def show(self, watching: LookWatch) -> None:
        """Show this from now on."""
        self.watching = watching

    def tell(self, fact: object) -> None:
        """Show what happened."""
        if isinstance(fact, Happening):
            self._recent.append((fact.at, fact.change))
        self._missing.new(fact)

    def refreshed(self) -> None:
        """Draw the table again."""
        if self.watching is not None:
            now = asyncio.get_running_loop().time()
            self._live.update(self._table(self.watching, now), refresh=True)

    def _table(self, watching: LookWatch, now: float) -> Any:
        shown = Columns(
            "address",
            "mac",
            "name",
            "what",
            "firmware",
            "identified",
            "heard",
            drops=("firmware", "identified"),
            shrinks="what",
        )
        for device, gone in watching.listed():
            age = now - device.heard
            style = "red" if gone else "bold"
            heard = f"{'vanished, ' if gone else ''}{ago(age)}"
            told = device.age(now, Field.NAME, Field.FIRMWARE, *what_fields(device))
            faint = "bright_black" if gone else ""
            shown.add_row(
                cell(addresses(device), style),
                cell(device.mac, faint),
                cell(device.value(Field.NAME), faint),
                cell(what(device), faint),
                cell(device.value(Field.FIRMWARE), faint),
                cell(ago(told) if told is not None else None, faint),
                cell(heard, "bold red" if gone else "green" if age < _FRESH else ""),
            )
        lines = [
            Text(_line(at, change), style=_STYLES[change.happened], no_wrap=True)
            for at, change in self._recent
        ]
        missing = [Text(sentence, style="yellow") for sentence in self._missing.lines]
        return Group(_head(watching, now), *missing, Text(""), shown, Text(""), *lines)


def _head(watching: LookWatch, now: float) -> Text:
    state, style = "the first look is under way", "bright_black"
    if watching.look_ended is not None:
        state = f"look {watching.looks} ended {ago(now - watching.look_ended)}"
    if not watching.cable.has_link:
        state, style = f"NO LINK: the list is as it was; {state}", "bold red"
    return Text(f"watching {watching.adapter.name}: {state}; Ctrl-C ends it", style=style)


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
