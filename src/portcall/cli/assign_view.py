"""What assign shows while it runs: a live board, plain lines, or lines of JSON."""

from __future__ import annotations

import sys
import time
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, datetime
from typing import Protocol

import click
from rich.console import Group, RenderableType
from rich.live import Live
from rich.text import Text

from portcall.cli.say import note, print_json_line
from portcall.cli.show import Columns, cell, console
from portcall.core.assign.board import Board, Row, State
from portcall.core.assign.server import Event, EventKind

_REFRESH = 4
"""Times a second; ages are shown in whole seconds."""

_STYLES = {
    State.WAITING: "dim",
    State.ASKED: "yellow",
    State.OFFERED: "yellow",
    State.ASSIGNED: "cyan",
    State.ANSWERING: "bold green",
    State.REFUSED: "bold red",
    State.DECLINED: "bold red",
}


class AssignView(Protocol):
    """How an assignment is shown."""

    @contextmanager
    def open(self, title: str) -> Iterator[None]:
        """Show while the block runs."""
        ...

    def event(self, event: Event, now: float) -> None:
        """Something happened; the board has it already."""
        ...

    def summary(self) -> None:
        """How it ended."""
        ...


def view_for(board: Board, as_json: bool) -> AssignView:
    """JSON when asked for, a live board on a terminal, else lines."""
    if as_json:
        return JsonView()
    return LiveView(board) if sys.stdout.isatty() else LineView(board)


class JsonView:
    """One line of JSON an event."""

    @contextmanager
    def open(self, title: str) -> Iterator[None]:
        """Nothing but the events goes to stdout."""
        yield

    def event(self, event: Event, now: float) -> None:
        """Print the event as DESIGN has it."""
        print_json_line(
            {
                "event": event.kind,
                "mac": str(event.mac),
                "protocol": event.protocol,
                "address": str(event.address) if event.address else None,
                "name": event.name,
                "at": datetime.now(UTC).isoformat(timespec="milliseconds"),
                "detail": event.detail or None,
            }
        )

    def summary(self) -> None:
        """The events have said it."""


class LineView:
    """One line an event, for a log or a pipe; repeats of a stranger only now and then."""

    def __init__(self, board: Board) -> None:
        self._board = board
        self._told: dict[object, int] = {}

    @contextmanager
    def open(self, title: str) -> Iterator[None]:
        """Say what is served, first."""
        note(f"{title}; Ctrl-C ends it")
        yield

    def event(self, event: Event, now: float) -> None:
        """Print the event."""
        who = event.name or str(event.mac)
        if event.kind in (EventKind.IGNORED, EventKind.ASKED):
            count = self._told.get((event.kind, event.mac), 0) + 1
            if len(self._told) < 4096:
                self._told[event.kind, event.mac] = count
            if count & (count - 1):  # Told at 1, 2, 4, 8 … times.
                return
        parts = [datetime.now().strftime("%H:%M:%S"), f"{event.kind:9}", who]
        if event.address:
            parts.append(str(event.address))
        if event.protocol:
            parts.append(f"by {event.protocol}")
        if event.detail:
            parts.append(f"({event.detail})")
        click.echo("  ".join(parts))
        sys.stdout.flush()

    def summary(self) -> None:
        """The rows that are done, and those that are not, with why."""
        _print_summary(self._board)


class LiveView:
    """The board, redrawn in place."""

    def __init__(self, board: Board) -> None:
        self._board = board
        self._began = time.monotonic()
        self._title = ""

    @contextmanager
    def open(self, title: str) -> Iterator[None]:
        """Draw until the block ends; the last picture stays."""
        self._title = title
        self._began = time.monotonic()
        with Live(
            console=console(), get_renderable=self._draw, refresh_per_second=_REFRESH
        ) as live:
            self._live = live
            yield

    def event(self, event: Event, now: float) -> None:
        """The next redraw shows it."""

    def summary(self) -> None:
        """One sentence: the board above says the rest."""
        _print_summary(self._board, rows=False)

    def _draw(self) -> RenderableType:
        now = time.monotonic()
        served = Columns(
            "name",
            "mac",
            "address",
            "state",
            "since",
            "asked",
            "by",
            "remarks",
            drops=("by", "asked", "since"),
            shrinks="remarks",
        )
        for row in self._board.rows:
            served.add_row(
                cell(row.device.name, "bold"),
                cell(row.device.mac),
                cell(row.device.interface),
                cell(row.state, _STYLES[row.state]),
                cell(_age(now, row.since)),
                cell(f"{row.asked}×" if row.asked else None),
                cell(row.protocol),
                Text(row.detail, style="yellow"),
            )
        parts: list[RenderableType] = [
            Text(f"{self._title}, {now - self._began:.0f} s, Ctrl-C ends it", style="bold"),
            served,
        ]
        strangers = self._board.strangers
        if strangers:
            others = Columns("who else asks", "by", "asked", "last", "remarks", shrinks="remarks")
            for stranger in strangers[:10]:
                others.add_row(
                    cell(stranger.mac, "bold"),
                    cell(stranger.protocol),
                    cell(f"{stranger.asked}×"),
                    cell(_age(now, stranger.last)),
                    Text(stranger.detail, style="bold yellow"),
                )
            parts += [Text(""), others]
            if len(strangers) > 10:
                parts.append(Text(f"and {len(strangers) - 10} more"))
        return Group(*parts)


def _age(now: float, since: float | None) -> str | None:
    return None if since is None else f"{max(now - since, 0):.0f} s"


def _print_summary(board: Board, rows: bool = True) -> None:
    done = len(board.rows) - len(board.missing)
    if rows:
        for row in board.missing:
            click.echo(f"without its address: {row.device.name} {_why(row)}")
        for stranger in board.strangers[:10]:
            click.echo(f"asked and got nothing: {stranger.mac} ({stranger.detail})")
    click.echo(f"of {len(board.rows)} served, {done} have their address and answer there")


def _why(row: Row) -> str:
    if row.state is State.WAITING:
        return f"({row.device.mac} never asked)"
    if row.state is State.ASSIGNED:
        return f"({row.device.address} was given, it does not answer there)"
    return f"({row.detail or row.state})"
