"""``move --series`` at a terminal: what is to be connected is said, and keys answer."""

from __future__ import annotations

import asyncio
import os
import sys
from collections.abc import Sequence
from ipaddress import IPv4Address
from typing import Any

import click

from portcall.cli.views.outcomes import say_outcome
from portcall.core.address import Mac
from portcall.core.finding import Finding
from portcall.core.plan.rows import PlannedDevice
from portcall.core.setting.job import Outcome
from portcall.core.setting.series import Call, Turn
from portcall.jobs.look.locate import Located
from portcall.jobs.setting.series import Answer

_STYLES: dict[Turn, dict[str, Any]] = {
    Turn.CONNECT: {"fg": "yellow", "bold": True},
    Turn.ASK: {"fg": "yellow", "bold": True},
    Turn.WRONG: {"fg": "red", "bold": True},
    Turn.READY: {},
}

_ANSWERS = {
    "": Answer.YES,
    "b": Answer.BLINK,
    "o": Answer.OTHER,
    "s": Answer.SKIP,
    "q": Answer.STOP,
}
_KEYS = "Enter: yes   b: have it flash   s: another row first   q: stop"
_OTHER_KEYS = "Enter: yes   b: have it flash   o: the other one   s: another row first   q: stop"
_AGAIN = "Enter: try again   s: another row first   q: stop"


class AtTheTerminal:
    """The person who connects the devices."""

    def __init__(self) -> None:
        self._keys = _KEYS

    def begin(self, start: IPv4Address, waiting: Sequence[str]) -> None:
        """Say which rows are to be moved."""
        click.echo(f"{len(waiting)} to move from {start}: {', '.join(waiting) or 'none'}")

    def passed_over(self, name: str, why: str) -> None:
        """Say why a row needs no turn."""
        click.echo(f"{name} {why}")

    def comes_again(self, name: str, why: str) -> None:
        """Say why a row that was done has a turn again."""
        click.echo(f"{name} {why}")

    def turn(self, number: int, total: int, name: str) -> None:
        """Say whose turn it is."""
        left = total - number
        more = f", {left} more after it" if left else ", the last one"
        click.echo(click.style(f"\n{number} of {total}: {name}{more}", bold=True))

    def called(self, call: Call, held: bool) -> None:
        """Say who is there, and which keys answer."""
        waits = call.turn is Turn.ASK or (held and call.turn is Turn.READY)
        click.echo(click.style(call.sentence, **_STYLES[call.turn]))
        if waits:
            others = _OTHER_KEYS if call.others else _KEYS
            self._keys = _AGAIN if held else others
            click.echo(f"  {self._keys}")
        sys.stdout.flush()

    def shown(self, mac: Mac, reason: Finding | None) -> None:
        """Say whether it flashed its lamp."""
        click.echo(f"  {mac} flashes its lamp now" if reason is None else f"  {reason}")

    def bound(self, row: PlannedDevice, mac: Mac) -> None:
        """Say that the plan has the MAC."""
        click.echo(f"{row.name} has the MAC {mac} in the plan now")

    def moving(self, row: PlannedDevice) -> None:
        """Say that it begins."""
        click.echo(f"moving it to {row.interface} …")

    def moved(self, which: Located, outcome: Outcome) -> None:
        """Say how it went."""
        assert which.meant.row is not None
        say_outcome(which, outcome, f"is at {which.meant.row.interface}")

    def end(self, finished: int, total: int) -> None:
        """Say how far the series came."""
        click.echo(f"\n{finished} of {total} done")
        if finished < total:
            click.echo("the same line takes it up again where it stopped")

    async def answer(self) -> Answer:
        """Wait for a line that is an answer."""
        loop = asyncio.get_running_loop()
        answered: asyncio.Future[Answer] = loop.create_future()

        def typed() -> None:
            data = os.read(sys.stdin.fileno(), 1024)
            line = data.decode(errors="replace").strip().lower()
            # End of input (Ctrl-D, or a terminal that is gone) is not Enter: nobody said yes.
            answer = _ANSWERS.get(line) if data else Answer.STOP
            if answer is None:
                click.echo(f"  {self._keys}")
            elif not answered.done():
                answered.set_result(answer)

        loop.add_reader(sys.stdin.fileno(), typed)
        try:
            return await answered
        finally:
            loop.remove_reader(sys.stdin.fileno())
