"""Trying the doors of devices, which are TCP ports, and asking what is behind those that open."""

from __future__ import annotations

import asyncio
from collections.abc import Callable, Collection, Mapping, Sequence
from contextlib import closing
from dataclasses import dataclass
from functools import partial
from ipaddress import IPv4Address

from portcall.core.find.sighting import Learnt, Method, Sighting, sighting_of
from portcall.core.talk.conversation import Endpoint
from portcall.core.talk.dialogue import Dialogue, Script, one_after_the_other
from portcall.core.talk.door_knock import DoorKnock, DoorState, Knock
from portcall.host.doors import Doors
from portcall.host.runner import Runner
from portcall.host.streams import Stream
from portcall.host.vantage import Vantage


@dataclass(frozen=True, slots=True)
class Talk:
    """What to ask behind a door, one script after the other."""

    method: Method
    scripts: Sequence[Callable[[], Script[Learnt]]] = ()
    secure: bool = False


async def converse(
    runner: Runner,
    vantage: Vantage,
    doors: Mapping[IPv4Address, Sequence[int]],
    opened: Callable[[Endpoint], Talk],
    report: Callable[[Sighting], None],
    proven: Collection[IPv4Address] = (),
) -> Collection[IPv4Address]:
    """Try ports of devices, and talk behind those that open; gives who answered at all.

    ``opened`` says what to talk about behind a door. An error on the way ends that talk. ``proven``
    are addresses that are known to answer.
    """
    knocking = DoorKnock(doors, proven)
    with runner.using(Doors(vantage)) as medium:
        async with asyncio.TaskGroup() as talks:

            def settled(knock: Knock) -> None:
                if knock.state is DoorState.SILENT:
                    medium.give_up(knock.door)
                elif knock.state is DoorState.OPEN:
                    talk = opened(knock.door)
                    talks.create_task(_talk(runner, medium, knock.door, talk, report))

            await runner.run(knocking, medium, settled)
    return knocking.answered


async def _talk(
    runner: Runner, medium: Doors, door: Endpoint, talk: Talk, report: Callable[[Sighting], None]
) -> None:
    """Ask behind an open door, and close it properly."""
    try:
        with closing(medium.stream(door)) as stream:
            if talk.secure:
                from portcall.host.secure import SecureStream

                with closing(await SecureStream.over(stream)) as secured:
                    await _ask(runner, secured, door.address, talk, report)
            else:
                await _ask(runner, stream, door.address, talk, report)
    except (OSError, TimeoutError):
        pass
    finally:
        medium.leave(door)


async def _ask(
    runner: Runner,
    stream: Stream,
    address: IPv4Address,
    talk: Talk,
    report: Callable[[Sighting], None],
) -> None:
    script = one_after_the_other(talk.scripts)
    dialogue = Dialogue(script, partial(sighting_of, talk.method, address))
    try:
        await runner.run(dialogue, stream, report)
    finally:
        runner.drop(stream)
