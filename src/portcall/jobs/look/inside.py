"""Asking one device what is inside it: interfaces, modules in its rack, units behind it.

One connection at a time, and in it one question at a time. A connection that the device ends is
opened again, as long as it answers something in each.
"""

from __future__ import annotations

import asyncio
from collections.abc import Callable, Iterable, Mapping, Sequence
from contextlib import closing, suppress
from dataclasses import dataclass, field, replace
from ipaddress import IPv4Address

from portcall.core.catalog.registers import Description
from portcall.core.find.inside.rack import interfaces_script, rack_script
from portcall.core.find.inside.tables import interface_tables
from portcall.core.find.inside.units import REST, units_script
from portcall.core.find.outlook import Outlook
from portcall.core.find.sighting import FoundPart, Sighting
from portcall.core.find.snmp_walk import Walk
from portcall.core.part_path import HIGHEST, PartKind, PartPath
from portcall.core.talk.conversation import Endpoint
from portcall.core.talk.dialogue import Dialogue, Exchange, Script
from portcall.core.wire import cip, modbus
from portcall.host.datagrams import Datagrams
from portcall.host.runner import Runner
from portcall.host.streams import connect
from portcall.host.vantage import Vantage

_CONNECT_WAIT = 3.0
_MOST_EXCHANGES = 20_000
_UNIT_SECONDS = 1.0
"""Seconds that one unit takes, before any has answered; a rough figure, for the time left."""

_CIP_SECONDS = 8.0
_MOST_IN_VAIN = 2
"""Connections in a row in which nothing was answered, after which no more are opened."""


@dataclass(frozen=True, slots=True)
class Inside:
    """What to ask of the inside of devices.

    ``units`` are Modbus units, ``slots`` those of a rack, all of a large one where it is None;
    ``beyond`` are addresses of further racks by the slot that leads there. ``products`` say what
    the units at an address are planned to be. ``rest`` is how long a serial line is left alone.
    """

    units: Sequence[int] = range(1, HIGHEST[PartKind.UNIT] + 1)
    slots: Sequence[int] | None = None
    ports: bool = True
    """Whether interfaces are asked for."""
    beyond: Mapping[int, Sequence[IPv4Address]] = field(default_factory=dict)
    descriptions: Sequence[Description] = ()
    products: Mapping[IPv4Address, Mapping[int, str]] = field(default_factory=dict)
    rest: float = REST


def inside_of(
    paths: Iterable[PartPath],
    descriptions: Sequence[Description],
    products: Mapping[IPv4Address, Mapping[int, str]],
) -> Inside:
    """What to ask to know of some parts, and of no others."""
    units: dict[int, None] = {}
    slots: dict[int, None] = {}
    beyond: dict[int, list[IPv4Address]] = {}
    ports = False
    for path in paths:
        first, *further = path.steps
        if first.kind is PartKind.UNIT:
            units[first.number] = None
        elif first.kind is PartKind.PORT:
            ports = True
        else:
            slots[first.number] = None
        if further and further[0].kind is PartKind.AT:
            beyond.setdefault(first.number, []).append(IPv4Address(further[0].number))
            slots[further[1].number] = None
    return Inside(tuple(units), tuple(slots), ports, beyond, descriptions, products)


@dataclass(frozen=True, slots=True)
class Doors:
    """By which protocols a device can be asked."""

    cip: bool = False
    modbus: bool = False
    snmp: bool = False


async def ask_inside(
    runner: Runner,
    vantage: Vantage,
    address: IPv4Address,
    doors: Doors,
    wanted: Inside,
    community: str,
    report: Callable[[Sighting], None],
    outlook: Outlook,
) -> None:
    """Tell of every part that was asked for, as it answers or does not."""
    clock = asyncio.get_running_loop().time

    def tell(part: FoundPart) -> None:
        report(Sighting(clock(), part.method, address=address, part=part))

    if doors.snmp and wanted.ports:
        with outlook.doing(f"the interfaces of {address}", _CIP_SECONDS):
            await _by_snmp(runner, vantage, address, community, tell)
    scripts: list[tuple[str, Script[FoundPart]]] = []
    if wanted.ports:
        scripts.append(("interfaces", interfaces_script()))
    if wanted.slots is None or wanted.slots or wanted.beyond:
        scripts.append(("modules", rack_script(wanted.slots, wanted.beyond)))
    for what, script in scripts if doors.cip else ():
        # Each over a connection of its own: one that is cut takes only its own with it.
        with outlook.doing(f"the {what} of {address}", _CIP_SECONDS):
            await _over(runner, vantage, Endpoint(address, cip.PORT), script, tell)
    if doors.modbus and wanted.units:
        await _units(runner, vantage, address, wanted, tell, outlook)


async def _by_snmp(
    runner: Runner,
    vantage: Vantage,
    address: IPv4Address,
    community: str,
    tell: Callable[[FoundPart], None],
) -> None:
    def take(parts: Iterable[FoundPart]) -> None:
        for part in parts:
            tell(part)

    asking = Walk(address, interface_tables(), community)
    with runner.using(Datagrams.at(vantage, refusals=True)) as medium:
        await runner.run(asking, medium, take)


async def _units(
    runner: Runner,
    vantage: Vantage,
    address: IPv4Address,
    wanted: Inside,
    tell: Callable[[FoundPart], None],
    outlook: Outlook,
) -> None:
    """Ask the units one after the other, over as many connections as that takes."""
    clock = asyncio.get_running_loop().time
    count = len(wanted.units)
    asked, there, began = 0, 0, clock()
    with outlook.doing(f"{count} units behind {address}", count * _UNIT_SECONDS) as say:

        def take(part: FoundPart) -> None:
            nonlocal asked, there
            asked, there = asked + 1, there + part.is_there
            far = f"unit {part.path.number} behind {address}, {there} of {asked} there"
            say(far, (count - asked) * (clock() - began) / asked)
            tell(part)

        products = wanted.products.get(address, {})
        script = units_script(wanted.units, wanted.descriptions, products, wanted.rest)
        await _over(runner, vantage, Endpoint(address, modbus.PORT), script, take, resumes=True)


async def _over(
    runner: Runner,
    vantage: Vantage,
    door: Endpoint,
    script: Script[FoundPart],
    tell: Callable[[FoundPart], None],
    resumes: bool = False,
) -> None:
    """Go through a script over a connection; one that ``resumes``, over as many as it takes.

    It ends before its time where the device takes none any more, or answers nothing in several.
    """
    first: Exchange | None = None
    in_vain = 0
    with closing(script), suppress(OSError, TimeoutError):
        while in_vain < _MOST_IN_VAIN:
            stream = await connect(vantage, door, _CONNECT_WAIT)
            with closing(stream):
                dialogue = _dialogue(script, first, resumes)
                try:
                    await runner.run(dialogue, stream, tell)
                finally:
                    runner.drop(stream)
            first = dialogue.left_over
            if first is None:
                return
            in_vain = 0 if dialogue.answered else in_vain + 1


def _dialogue(
    script: Script[FoundPart], first: Exchange | None, resumes: bool
) -> Dialogue[FoundPart, FoundPart]:
    """A dialogue that tells of each part how long its slowest answer took."""

    def told(part: FoundPart, now: float) -> FoundPart:
        seconds, dialogue.slowest = dialogue.slowest, 0.0
        return replace(part, seconds=seconds if part.is_there else 0.0)

    dialogue: Dialogue[FoundPart, FoundPart] = Dialogue(
        script, told, _MOST_EXCHANGES, resumes=resumes, first=first
    )
    return dialogue
