"""The views of a running assignment: a live board, plain lines, or lines of JSON."""

from __future__ import annotations

import sys
import time
from collections import deque
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from datetime import UTC, datetime
from functools import partial
from typing import Protocol

import click
from rich.console import Group, RenderableType
from rich.live import Live
from rich.text import Text

from portcall.cli.say import duration, note, print_json_line, wants_json
from portcall.cli.table import Columns, Remark, Tone, cell, console, print_lines, print_rows
from portcall.core.address import Mac
from portcall.core.assign.board import DONE, Board, Row, RowState, Stranger
from portcall.core.assign.event import Event, EventKind
from portcall.core.circuit import circuit_words
from portcall.core.counted import named
from portcall.core.finding import values_as_json

_STRANGERS = 10
"""Shown; there may be thousands."""

_STRANGERS_A_SECOND = 20
_MOST_TOLD = 4096
_NOTICES = 4

_REFRESH = 4
"""How many times a second the board is redrawn; ages are shown in whole seconds."""

_STYLES = {
    RowState.WAITING: Tone.INFORMATION,
    RowState.ASKED: Tone.INFORMATION,
    RowState.OFFERED: Tone.INFORMATION,
    RowState.ASSIGNED: Tone.INFORMATION,
    RowState.ANSWERING: f"bold {Tone.DONE}",
    RowState.KEPT: f"bold {Tone.DONE}",
    RowState.REFUSED: f"bold {Tone.BROKEN}",
    RowState.DECLINED: f"bold {Tone.BROKEN}",
}


class AssignView(Protocol):
    """How an assignment is shown."""

    @contextmanager
    def open(self, title: str) -> Iterator[None]:
        """Show while the block runs."""
        ...

    def event(self, event: Event) -> None:
        """Something happened; the board has it already."""
        ...

    def summary(self, malformed: int) -> None:
        """How it ended; ``malformed`` requests were ignored."""
        ...


MakerOf = Callable[[Mac], str | None]


def view_for(board: Board, maker_of: MakerOf, live: bool) -> AssignView:
    """JSON when asked for, a live board on a terminal, else lines."""
    if wants_json():
        return JsonView()
    if live and sys.stdout.isatty():
        return LiveView(board, maker_of)
    return LineView(board, maker_of)


class JsonView:
    """One line of JSON an event."""

    @contextmanager
    def open(self, title: str) -> Iterator[None]:
        """Nothing but the events goes to stdout."""
        yield

    def event(self, event: Event) -> None:
        """Print the event as DESIGN has it."""
        print_json_line(
            {
                "event": event.kind,
                "mac": str(event.mac) if event.mac else None,
                "protocol": event.protocol,
                "address": str(event.address) if event.address else None,
                "name": event.name,
                "at": datetime.now(UTC).isoformat(timespec="milliseconds"),
                "detail": event.detail or None,
                "code": event.told.code if event.told else None,
                "values": values_as_json(event.told) if event.told else None,
            }
        )

    def summary(self, malformed: int) -> None:
        """The events have said it."""


class LineView:
    """One line for each event, for a log or a pipe.

    Repeated events are told more and more rarely, and never as a flood.
    """

    def __init__(self, board: Board, maker_of: MakerOf) -> None:
        self._board = board
        self._maker_of = maker_of
        self._told: dict[object, int] = {}
        self._second = 0.0
        self._strangers_told = 0
        self._untold = 0

    @contextmanager
    def open(self, title: str) -> Iterator[None]:
        """Say what is served, first."""
        note(f"{title}; Ctrl-C ends it")
        yield

    def event(self, event: Event) -> None:
        """Print the event."""
        now = time.monotonic()
        if event.kind is not EventKind.NOTICE:
            key = event.kind, event.mac
            count = self._told.pop(key, 0) + 1
            self._told[key] = count
            if len(self._told) > _MOST_TOLD:
                del self._told[next(iter(self._told))]
            if count & (count - 1):  # Told at 1, 2, 4, 8 … times.
                return
            if event.name is None and not self._may_tell(now):
                return
        parts = [_clock(), f"{event.kind:9}"]
        if event.name or (event.mac and event.kind is not EventKind.NOTICE):
            parts.append(event.name or self._stranger(event))
        if event.address and event.kind is not EventKind.NOTICE:
            parts.append(str(event.address))
        if event.protocol:
            parts.append(f"by {event.protocol}")
        if event.detail:
            parts.append(event.detail if event.kind is EventKind.NOTICE else f"({event.detail})")
        click.echo("  ".join(parts))
        sys.stdout.flush()

    def _stranger(self, event: Event) -> str:
        maker = self._maker_of(event.mac) if event.mac else None
        return f"{event.mac} {maker}" if maker else str(event.mac)

    def _may_tell(self, now: float) -> bool:
        """Whether a stranger may be told of now:

        there are at most so many a second, because the planned devices matter when a plant powers
        up.
        """
        if now - self._second >= 1.0:
            if self._untold:
                click.echo(f"{_clock()}  ignored    {self._untold} more that are not in the plan")
            self._second, self._strangers_told, self._untold = now, 0, 0
        self._strangers_told += 1
        if self._strangers_told > _STRANGERS_A_SECOND:
            self._untold += 1
            return False
        return True

    def summary(self, malformed: int) -> None:
        """The rows, done or not, with the reasons; and who else asked."""
        _print_summary(self._board, self._maker_of, malformed)


class LiveView:
    """The board, redrawn in place."""

    def __init__(self, board: Board, maker_of: MakerOf) -> None:
        self._board = board
        self._maker_of = maker_of
        self._began = time.monotonic()
        self._title = ""
        self._notices: deque[str] = deque(maxlen=_NOTICES)

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

    def event(self, event: Event) -> None:
        """The next redraw shows it."""
        if event.kind is EventKind.NOTICE and event.name is None:
            self._notices.append(f"{_clock()}  {event.detail}")

    def summary(self, malformed: int) -> None:
        """How each row ended; the board above stays for who wants to see who else asked."""
        _print_summary(self._board, self._maker_of, malformed, strangers=False)

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
                cell(row.device.mac or row.mac),
                cell(row.device.interface),
                cell(row.state, _STYLES[row.state]),
                cell(_age(now, row.since)),
                cell(f"{row.asked}×" if row.asked else None),
                cell(row.protocol),
                Text(row.detail, _detail_tone(row)),
            )
        parts: list[RenderableType] = [
            Text(f"{self._title}, {now - self._began:.0f} s, Ctrl-C ends it", style="bold"),
            served,
        ]
        if self._board.strangers:
            parts += [Text(""), self._others(now)]
            more = len(self._board.strangers) - _STRANGERS + self._board.strangers_forgotten
            if more > 0:
                parts.append(Text(f"and {more} more", style=Tone.INFORMATION))
        if self._notices:
            parts += [Text(""), *(Text(line, style="bold yellow") for line in self._notices)]
        return Group(*parts)

    def _others(self, now: float) -> Columns:
        lent = any(stranger.address for stranger in self._board.strangers)
        headers = ["who else asks", "maker", "by", "asked", "last", "remarks"]
        shown = Columns(
            *headers[:2],
            *(["lent"] if lent else []),
            *headers[2:],
            drops=("maker", "by", "last"),
            shrinks="remarks",
        )
        # The order stays the same, so that the eye finds a line again.
        for stranger in sorted(self._board.strangers[:_STRANGERS], key=_nearest_first):
            near = _is_near(stranger)
            shown.add_row(
                cell(stranger.mac, "bold"),
                cell(self._maker_of(stranger.mac)),
                *([cell(stranger.address)] if lent else []),
                cell(stranger.protocol),
                cell(f"{stranger.asked}×"),
                cell(_age(now, stranger.last)),
                Text(stranger.detail, Tone.TO_DO if near else Tone.INFORMATION),
            )
        return shown


def _detail_tone(row: Row) -> Tone:
    if row.state in (RowState.REFUSED, RowState.DECLINED):
        return Tone.BROKEN
    return Tone.INFORMATION if row.state in DONE else Tone.TO_DO


def _is_near(stranger: Stranger) -> bool:
    return bool(stranger.near)


def _nearest_first(stranger: Stranger) -> tuple[bool, Mac]:
    return not _is_near(stranger), stranger.mac


def _clock() -> str:
    return datetime.now().strftime("%H:%M:%S")


def _age(now: float, since: float | None) -> str | None:
    return None if since is None else duration(max(now - since, 0))


def _print_summary(board: Board, maker_of: MakerOf, malformed: int, strangers: bool = True) -> None:
    """Print the open rows first, with the reasons; then the strangers that asked."""
    click.echo()
    print_lines([_what_is_open(board)])
    unfinished = [row for row in board.rows if _needs_somebody(row)]
    unheard = [row for row in unfinished if _was_never_heard(board, row)]
    unfinished = [row for row in unfinished if row not in unheard]
    if unfinished:
        headers = ("name", "mac", "address", "state", "took", "asked", "by")
        columns = Columns(*headers, drops=("by", "asked", "took"))
        print_rows(columns, unfinished, _summary_cells, partial(_why, board))
    if unheard:
        listed = ", ".join(f"{row.device.name} {_waits_for(row)}" for row in unheard)
        print_lines([Remark(f"never asked: {listed}", Tone.TO_DO)])
    if strangers:
        told = board.strangers[:_STRANGERS]
        print_lines(Remark(_stranger_sentence(each, maker_of(each.mac))) for each in told)
        more = len(board.strangers) - _STRANGERS + board.strangers_forgotten
        if more > 0:
            click.echo(f"and {more} more that are not in the plan")
    if malformed:
        messages = "1 message" if malformed == 1 else f"{malformed} messages"
        click.echo(f"{messages} to port 67 could not be read, and got no answer")


def _needs_somebody(row: Row) -> bool:
    """Whether a device has no address yet, or did not do all that it was told."""
    return row.state not in DONE or (row.state is not RowState.KEPT and bool(row.detail))


_MOST_NAMED = 6


def _what_is_open(board: Board) -> Remark:
    """How many have no address, and which; or that all is done."""
    count, names = len(board.rows), [row.device.name for row in board.missing]
    kept = sum(row.state is RowState.KEPT for row in board.rows)
    one_keeps = "1 of them keeps" if kept == 1 else f"{kept} of them keep"
    holding = f"; {one_keeps} it when the power goes" if kept else ""
    if not count:
        return Remark("no device was to be served")
    if not names:
        one = "the device has its address and answers there"
        all_of = one if count == 1 else f"all {count} devices have their address and answer there"
        return Remark(f"done: {all_of}{holding}", Tone.DONE)
    listed = named(names, _MOST_NAMED)
    done = f"; {count - len(names)} done{holding}" if count > len(names) else ""
    return Remark(f"open: {len(names)} of {count}: {listed}{done}", Tone.TO_DO)


def _summary_cells(row: Row) -> Sequence[Text]:
    took = None if row.since is None or row.first is None else row.since - row.first
    return (
        cell(row.device.name, "bold"),
        cell(row.device.mac or row.mac),
        cell(row.device.interface),
        cell(row.state, _STYLES[row.state]),
        cell(None if took is None else f"{took:.1f} s"),
        cell(f"{row.asked}×" if row.asked else None),
        cell(row.protocol),
    )


def _stranger_sentence(stranger: Stranger, maker: str | None) -> str:
    who = f"{stranger.mac} {maker}" if maker else str(stranger.mac)
    got = f"was lent {stranger.address}" if stranger.address else "got no answer"
    return f"{who} asked {stranger.asked}×, {got}: {stranger.detail}"


def _why(board: Board, row: Row) -> Sequence[Remark]:
    """Why a row is not done."""
    broken = row.state in (RowState.REFUSED, RowState.DECLINED)
    tone = Tone.BROKEN if broken else Tone.INFORMATION if row.state in DONE else Tone.TO_DO
    sentence = row.detail or _open_because(board, row)
    return (Remark(sentence, tone),) if sentence else ()


def _waits_for(row: Row) -> str:
    """By what the device would be recognised."""
    return str(row.device.mac or f"circuit {circuit_words(row.device.circuit)}")


def _near_one(board: Board, row: Row) -> Mac | None:
    """A device that asked, whose MAC is almost the planned one."""
    name = row.device.name
    return next((each.mac for each in board.strangers if name in each.near), None)


def _was_never_heard(board: Board, row: Row) -> bool:
    """Whether there is nothing more to say of a device than that it did not ask."""
    return row.state is RowState.WAITING and not row.detail and _near_one(board, row) is None


def _open_because(board: Board, row: Row) -> str:
    if row.state is RowState.WAITING:
        return f"{_waits_for(row)} never asked; {_near_one(board, row)} did: is that it?"
    if row.state is RowState.ASSIGNED:
        return "the address was given, the device does not answer there yet"
    return ""
