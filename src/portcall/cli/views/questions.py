"""``assign --ask``: asking the engineer, line by line, which planned row an unknown device is.

The question stays at the foot of the terminal, with what was typed so far; what happens meanwhile
is told above it.
"""

from __future__ import annotations

import asyncio
import sys
from collections.abc import Callable, Coroutine, Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from shutil import get_terminal_size
from typing import Any

import click
from rich.cells import cell_len

from portcall.core.address import Mac
from portcall.core.assign.event import Event
from portcall.core.counted import counted
from portcall.core.plan.rows import PlannedDevice
from portcall.core.trouble import Trouble
from portcall.jobs.assign.assignment import Assignment
from portcall.jobs.assign.unknown import NOBODY, Question, Unknowns
from portcall.site.folder import Site
from portcall.site.plan_file import PLAN_FILE
from portcall.system.terminals import key_presses

_ERASE_DOWN = "\x1b[J"
_BACKSPACE = ("\x7f", "\b")
_CLEAR = "\x15"
"""Ctrl-U."""
_LONGEST_ANSWER = 200


class _Foot:
    """The lines at the foot of the terminal, the last of which is being typed."""

    def __init__(self) -> None:
        self.lines: list[str] = []
        self.typed = ""
        self._rows = 0

    def draw(self) -> None:
        """Put it there."""
        if not self.lines:
            return
        *above, last = self.lines
        shown = [*above, last + self.typed]
        width = max(get_terminal_size().columns, 1)
        # A line that is exactly as wide as the terminal leaves the cursor in it.
        self._rows = sum(max((cell_len(line) - 1) // width, 0) + 1 for line in shown)
        click.echo("\n".join(shown), nl=False)
        sys.stdout.flush()

    def erase(self) -> None:
        """Take it away, so that something can be told where it began."""
        if self._rows:
            up = f"\x1b[{self._rows - 1}A" if self._rows > 1 else ""
            click.echo(f"\r{up}{_ERASE_DOWN}", nl=False)
        self._rows = 0


def _question(rows: Sequence[PlannedDevice]) -> str:
    if not rows:
        return "which row is it? NAME ADDRESS for a new one, or Enter for none: "
    return (
        f"which row is it? Enter: {rows[0].name}; its number; NAME ADDRESS for a new one; "
        f"{NOBODY} for none: "
    )


class Questions:
    """Puts the questions, and reads the keys that answer them."""

    def __init__(
        self, assignment: Assignment, site: Site, maker_of: Callable[[Mac], str | None]
    ) -> None:
        self._unknowns = Unknowns(assignment, maker_of)
        self._path = (site.folder or Path.cwd()) / PLAN_FILE
        self._foot = _Foot()

    def asking(
        self, job: Callable[[asyncio.Event], Coroutine[Any, Any, None]]
    ) -> Callable[[asyncio.Event], Coroutine[Any, Any, None]]:
        """The same job, with the terminal listened to meanwhile."""

        async def with_keys(interrupt: asyncio.Event) -> None:
            # Each key comes at once, and is shown by this program.
            with key_presses(self._read):
                try:
                    await job(interrupt)
                finally:
                    self._foot.erase()

        return with_keys

    @contextmanager
    def aside(self) -> Iterator[None]:
        """Print above the question while the block runs."""
        self._foot.erase()
        yield
        self._foot.draw()

    def heard(self, event: Event) -> None:
        """An unknown device asks: a question, unless there was one about it."""
        question = self._unknowns.heard(event)
        if question is not None:
            self._put(question)

    def _put(self, question: Question | None) -> None:
        """Show a question, or that there is none."""
        self._foot.erase()
        self._foot.lines = self._lines(question) if question is not None else []
        self._foot.typed = ""
        self._foot.draw()

    @staticmethod
    def _lines(question: Question) -> list[str]:
        event = question.event
        lines = ["", f"{event.mac} asks by {event.protocol}: {event.detail}"]
        for number, row in enumerate(question.rows, 1):
            place = f", {row.place}" if row.place else ""
            lines.append(f"  {number}  {row.name}  {row.interface}{place}")
        left = []
        if question.rows:
            left.append(f"{counted(len(question.rows), 'row')} without a MAC")
        if question.waiting:
            left.append(f"{counted(question.waiting, 'more device asks', 'more devices ask')}")
        if left:
            lines.append(", ".join(left))
        return [*lines, _question(question.rows)]

    def _read(self, keys: str) -> None:
        for key in keys:
            if not self._foot.lines:
                return  # Nothing was asked.
            if key in "\r\n":
                self._answered(self._foot.typed)
                continue
            self._foot.erase()
            if key in _BACKSPACE:
                self._foot.typed = self._foot.typed[:-1]
            elif key == _CLEAR:
                self._foot.typed = ""
            elif key.isprintable() and len(self._foot.typed) < _LONGEST_ANSWER:
                self._foot.typed += key
            self._foot.draw()

    def _answered(self, line: str) -> None:
        try:
            name = self._unknowns.answer(line)
        except Trouble as trouble:
            with self.aside():
                click.echo(str(trouble))
                self._foot.lines[-1] = f"once more, or {NOBODY} for none: "
                self._foot.typed = ""
            return
        except OSError as error:
            name = None
            with self.aside():
                click.echo(f"{self._path}: cannot be written: {error.strerror}")
        if name is not None:
            with self.aside():
                click.echo(f"{name} is in the plan, and is served when it asks again")
        self._put(self._unknowns.next())
