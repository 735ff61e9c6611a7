"""Trying the doors of devices, which are TCP ports, and asking what is behind those that open."""

from __future__ import annotations

import asyncio
from collections.abc import Callable, Collection, Hashable, Mapping, Sequence
from contextlib import ExitStack, closing, suppress
from dataclasses import dataclass
from functools import partial
from ipaddress import IPv4Address

from portcall.core.find import web_page
from portcall.core.find.sighting import Field, Learnt, Method, Sighting, said_by, sighting_of
from portcall.core.find.web_page import MOST_HOPS, Onward
from portcall.core.printable import printable
from portcall.core.talk.conversation import Endpoint
from portcall.core.talk.dialogue import Dialogue, Script, one_after_the_other
from portcall.core.talk.door_knock import ANSWER_WAIT, DoorKnock, DoorState, Knock, itself
from portcall.host.doors import Doors
from portcall.host.runner import Runner
from portcall.host.streams import Stream, connect
from portcall.host.vantage import Vantage
from portcall.jobs.telling import nobody
from portcall.jobs.together import together

_CONNECT_WAIT = 3.0

PATIENCE = 8.0
"""Seconds that what is said behind one door takes at most, at the usual pace."""


@dataclass(frozen=True, slots=True)
class Talk:
    """The questions behind a door, one script after the other."""

    method: Method
    scripts: Sequence[Callable[[], Script[Learnt | Onward]]] = ()
    secure: bool = False


async def converse(
    runner: Runner,
    vantage: Vantage,
    doors: Mapping[IPv4Address, Sequence[int]],
    opened: Callable[[Endpoint], Talk],
    report: Callable[[Sighting], None],
    proven: Collection[IPv4Address] = (),
    device_at: Callable[[IPv4Address], Hashable] = itself,
    patience: float = PATIENCE,
    wait: float = ANSWER_WAIT,
    settled: Callable[[Knock], None] = nobody,
) -> Collection[IPv4Address]:
    """Try ports of devices, and talk behind those that open; gives who answered at all.

    ``opened`` says what to talk about behind a door. An error on the way ends that talk. ``proven``
    are addresses that are known to answer. ``device_at`` tells which device is at an address: one
    device has one connection at a time, however many addresses it has. What is said behind one door
    takes ``patience`` seconds at most. ``settled`` is told what became of each attempt, which is
    waited for ``wait`` seconds.
    """
    knocking = DoorKnock(doors, proven, device_at, wait)
    with runner.using(Doors(vantage)) as medium:
        async with together() as talks:

            def take(knock: Knock) -> None:
                settled(knock)
                if knock.state is DoorState.SILENT:
                    medium.give_up(knock.door)
                elif knock.state is DoorState.OPEN:
                    talk = opened(knock.door)
                    work = _talk(runner, vantage, medium, knock.door, talk, report, patience)
                    talks.create_task(work)

            await runner.run(knocking, medium, take)
    return knocking.answered


async def _talk(
    runner: Runner,
    vantage: Vantage,
    medium: Doors,
    door: Endpoint,
    talk: Talk,
    report: Callable[[Sighting], None],
    patience: float,
) -> None:
    """Ask behind an open door, and close it properly; then where its page sends on to.

    All of it takes ``patience`` seconds at most: what drips an octet at a time never ends.
    """
    onward: list[Onward] = []
    try:
        with suppress(TimeoutError):
            async with asyncio.timeout(patience):
                with suppress(OSError, TimeoutError):
                    await _ask(runner, medium.stream(door), door, talk, report, onward.append)
                for _ in range(MOST_HOPS):
                    if not onward:
                        break
                    onward = await _follow(runner, vantage, door.address, onward.pop(), report)
        for unfollowed in onward:
            report(_otherwise(door.address, unfollowed))
    finally:
        medium.leave(door)


async def _follow(
    runner: Runner,
    vantage: Vantage,
    address: IPv4Address,
    there: Onward,
    report: Callable[[Sighting], None],
) -> list[Onward]:
    """Ask for the page that another one sent on to, and give where that sends on to.

    Reports what the other one said where there is none.
    """
    script = partial(web_page.script, address, there.port, there.secure, there.path)
    door = Endpoint(address, there.port)
    told: list[Sighting] = []
    further: list[Onward] = []
    with suppress(OSError, TimeoutError):
        stream = await connect(vantage, door, _CONNECT_WAIT)
        talk = Talk(Method.WEB, (script,), there.secure)
        await _ask(runner, stream, door, talk, told.append, further.append)
    described = any(said.field is Field.DESCRIPTION for seen in told for said in seen.said)
    if not described and not further:
        told.append(_otherwise(address, there))
    for seen in told:
        report(seen)
    return further


def _otherwise(address: IPv4Address, there: Onward) -> Sighting:
    """The description of a page that sent on to another one."""
    now = asyncio.get_running_loop().time()
    return sighting_of(Method.WEB, address, there.otherwise, now)


async def _ask(
    runner: Runner,
    stream: Stream,
    door: Endpoint,
    talk: Talk,
    report: Callable[[Sighting], None],
    onward: Callable[[Onward], None],
) -> None:
    """Go through the scripts of a talk, within TLS where it is secure; the stream is closed then.

    Raises OSError, TimeoutError.
    """

    def told(fact: Learnt | Onward, now: float) -> Sighting | Onward:
        if isinstance(fact, Onward):
            return fact
        return sighting_of(talk.method, door.address, fact, now)

    def take(fact: Sighting | Onward) -> None:
        if isinstance(fact, Onward):
            onward(fact)
        else:
            report(fact)

    with ExitStack() as stack:
        stack.enter_context(closing(stream))
        if talk.secure:
            from portcall.host.secure import HandshakeFailed, SecureStream

            try:
                stream = stack.enter_context(closing(await SecureStream.over(stream)))
            except HandshakeFailed as trouble:
                sentence = f"TLS at port {door.port} does not come about: {trouble}"
                learnt = Learnt(said_by(talk.method, (Field.MANNER, printable(sentence, 100))))
                take(told(learnt, asyncio.get_running_loop().time()))
                return
        script: Script[Learnt | Onward] = one_after_the_other(talk.scripts)
        dialogue: Dialogue[Learnt | Onward, Sighting | Onward] = Dialogue(script, told)
        try:
            await runner.run(dialogue, stream, take)
        finally:
            runner.drop(stream)
