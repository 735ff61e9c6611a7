"""``assign --ask``: asking the engineer, line by line, which planned row an unknown device is."""

from __future__ import annotations

import asyncio
import os
import sys
from collections.abc import Callable, Coroutine
from pathlib import Path
from typing import Any

import click

from portcall.core.assign.event import Event
from portcall.core.trouble import Trouble
from portcall.jobs.assign.assignment import Assignment
from portcall.jobs.assign.unknown import Question, Unknowns
from portcall.site.folder import Site
from portcall.site.plan_file import PLAN_FILE


class Questions:
    """Puts the questions, and reads the keys that answer them."""

    def __init__(self, assignment: Assignment, site: Site) -> None:
        self._unknowns = Unknowns(assignment)
        self._path = (site.folder or Path.cwd()) / PLAN_FILE
        self._typed = ""

    def asking(
        self, job: Callable[[asyncio.Event], Coroutine[Any, Any, None]]
    ) -> Callable[[asyncio.Event], Coroutine[Any, Any, None]]:
        """The same job, with the terminal listened to meanwhile."""

        async def with_keys(interrupt: asyncio.Event) -> None:
            loop = asyncio.get_running_loop()
            loop.add_reader(sys.stdin.fileno(), self._read, loop)
            try:
                await job(interrupt)
            finally:
                loop.remove_reader(sys.stdin.fileno())

        return with_keys

    def heard(self, event: Event) -> None:
        """An unknown device asks: a question, unless there was one about it."""
        self._put(self._unknowns.heard(event))

    def _put(self, question: Question | None) -> None:
        if question is None:
            return
        event = question.event
        click.echo(f"\n{event.mac} asks by {event.protocol}: {event.detail}")
        for number, row in enumerate(question.rows, 1):
            place = f", {row.place}" if row.place else ""
            click.echo(f"  {number}  {row.name}  {row.interface}{place}")
        choices = "its number, or " if question.rows else ""
        click.echo(
            f"which row is it? {choices}NAME ADDRESS for a new one, or Enter for none: ", nl=False
        )
        sys.stdout.flush()

    def _read(self, loop: asyncio.AbstractEventLoop) -> None:
        typed = os.read(sys.stdin.fileno(), 4096)
        if not typed:
            loop.remove_reader(sys.stdin.fileno())
            return
        *lines, self._typed = (self._typed + typed.decode(errors="replace")).split("\n")
        for line in lines:
            self._answered(line)

    def _answered(self, line: str) -> None:
        try:
            name = self._unknowns.answer(line)
        except Trouble as trouble:
            click.echo(f"{trouble}\nonce more, or Enter for none: ", nl=False)
            sys.stdout.flush()
            return
        except OSError as error:
            click.echo(f"{self._path}: cannot be written: {error.strerror}")
            name = None
        if name is not None:
            click.echo(f"{name} is in the plan, and is served when it asks again")
        self._put(self._unknowns.next())
