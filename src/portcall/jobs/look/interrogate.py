"""Asking one device, at one address, which ports it has open and what it says behind them."""

from __future__ import annotations

import asyncio
from collections.abc import Mapping
from ipaddress import IPv4Address

from portcall.core.find.protocols import BEHIND_DOORS
from portcall.core.find.sighting import Door, Field, Method, Said, Sighting, said_by
from portcall.core.talk.conversation import Endpoint
from portcall.core.talk.pacer import Pace
from portcall.host.pace import paced
from portcall.host.vantage import Vantage
from portcall.jobs.look.ask import talk_at
from portcall.jobs.look.converse import Talk, converse

_IDENTITY = (Field.MAKER, Field.PRODUCT, Field.SERIAL, Field.FIRMWARE)


async def interrogate(
    adapter: str, address: IPv4Address, doors: Mapping[int, str], pace: Pace
) -> tuple[Said, ...]:
    """All that the device said, its open ports included; () when nothing takes a connection."""
    said: list[Said] = []

    def opened(door: Endpoint) -> Talk:
        opened_here = Door(door.port, doors.get(door.port, ""))
        said.extend(said_by(Method.PORTS, (Field.DOOR, opened_here)))
        return talk_at(door, BEHIND_DOORS)

    def report(seen: Sighting) -> None:
        said.extend(seen.said)

    with paced(adapter, pace) as runner:
        await converse(runner, Vantage(adapter), {address: tuple(doors)}, opened, report)
    return tuple(dict.fromkeys(said))


async def interrogate_again(
    adapter: str, address: IPv4Address, doors: Mapping[int, str], pace: Pace, wait: float
) -> tuple[Said, ...]:
    """The same, of a device that may still be starting: until it says who it is, or time is up."""
    loop = asyncio.get_running_loop()
    until = loop.time() + wait
    while True:
        said = await interrogate(adapter, address, doors, pace)
        if identity_in(said) or loop.time() >= until:
            return said
        await asyncio.sleep(1.0)


def identity_in(said: tuple[Said, ...]) -> dict[Field, str]:
    """The values among these that tell one device from another."""
    return {each.field: str(each.value) for each in said if each.field in _IDENTITY}
