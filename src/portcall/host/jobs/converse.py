"""Opening a door of a device, a TCP port, and asking what is behind it."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from contextlib import closing
from dataclasses import dataclass
from enum import Enum
from ipaddress import IPv4Address

from portcall.core.conversation import Endpoint
from portcall.core.find.dialogue import Dialogue, Script
from portcall.core.find.sighting import Method, Sighting
from portcall.host.runner import Runner
from portcall.host.streams import Stream
from portcall.host.vantage import Vantage


class Outcome(Enum):
    """What became of opening a door."""

    OPEN = "open"
    REFUSED = "refused"
    SILENT = "silent"


@dataclass(frozen=True, slots=True)
class Door:
    """A port of a device, and what to ask there, one script after the other."""

    address: IPv4Address
    port: int
    method: Method
    scripts: Sequence[Callable[[], Script]] = ()
    secure: bool = False


async def converse(
    runner: Runner, vantage: Vantage, door: Door, report: Callable[[Sighting], None]
) -> Outcome:
    """Connect, ask, and close properly; what goes wrong on the way ends the asking."""
    await runner.turn()
    try:
        stream = await Stream.connect(vantage, Endpoint(door.address, door.port))
    except ConnectionRefusedError:
        return Outcome.REFUSED
    except (OSError, TimeoutError):
        return Outcome.SILENT
    with closing(stream):
        if door.secure:
            from portcall.host.secure import SecureStream

            try:
                stream = await SecureStream.over(stream)
            except (OSError, TimeoutError):
                return Outcome.OPEN
        with closing(stream):
            await _ask(runner, stream, door, report)
    return Outcome.OPEN


async def _ask(
    runner: Runner, stream: Stream, door: Door, report: Callable[[Sighting], None]
) -> None:
    for script in door.scripts:
        if stream.closed_by_peer:
            return
        dialogue = Dialogue(script(), door.method, door.address)
        try:
            await runner.run(dialogue, stream, report)
        finally:
            runner.drop(stream)
