"""What is said behind open doors: the protocol's own first exchange, or what comes instead."""

from __future__ import annotations

import asyncio
from collections.abc import Mapping, Sequence
from contextlib import closing
from ipaddress import IPv4Address

from portcall.core.find.sighting import Field, Method, Said, Sighting
from portcall.core.talk.conversation import Endpoint
from portcall.core.talk.dialogue import Dialogue
from portcall.core.why.evidence import WordSeen
from portcall.core.why.tasting import PROTOCOLS, is_spoken, taste
from portcall.host.runner import Runner
from portcall.host.streams import connect
from portcall.host.vantage import Vantage
from portcall.jobs.look.ask import talk_at
from portcall.jobs.look.converse import converse

_METHODS = (Method.CIP, Method.MODBUS, Method.OPCUA, Method.WEB)
_MOST_DOORS = 3
_CONNECT_WAIT = 2.0
_SHOWN = (Field.PRODUCT, Field.SERIAL, Field.FIRMWARE)


async def words_behind(
    runner: Runner,
    vantage: Vantage,
    address: IPv4Address,
    ports: Sequence[int],
    names: Mapping[int, str],
) -> list[WordSeen]:
    """Ask behind each open door, those of known protocols first, and few of them."""
    known = [port for port in ports if port in PROTOCOLS]
    chosen = (known or list(ports))[:_MOST_DOORS]
    return [await _word(runner, vantage, address, port, names.get(port, "")) for port in chosen]


async def _word(
    runner: Runner, vantage: Vantage, address: IPv4Address, port: int, name: str
) -> WordSeen:
    name = name or f"port {port}"
    known = port in PROTOCOLS
    said: list[Said] = []

    def report(seen: Sighting) -> None:
        said.extend(seen.said)

    if known:
        await converse(
            runner, vantage, {address: (port,)}, lambda door: talk_at(door, _METHODS), report
        )
    identity = _identity(said)
    if identity:
        mask = next((each.value for each in said if each.field is Field.MASK), "")
        return WordSeen(port, name, known, identity, mask=mask)
    return await _taste(runner, vantage, Endpoint(address, port), name)


def _identity(said: Sequence[Said]) -> str:
    told = {each.field: each.value for each in said if each.field is not Field.MANNER}
    shown = [told[field] for field in _SHOWN if field in told]
    return ", ".join(shown) or told.get(Field.DESCRIPTION, "") or told.get(Field.NAME, "")


async def _taste(runner: Runner, vantage: Vantage, door: Endpoint, name: str) -> WordSeen:
    known = door.port in PROTOCOLS
    loop = asyncio.get_running_loop()
    began = loop.time()
    heard: list[bytes] = []
    closed = False
    try:
        stream = await connect(vantage, door, _CONNECT_WAIT)
        with closing(stream):
            dialogue: Dialogue[bytes, bytes] = Dialogue(taste(door.port), lambda raw, now: raw)
            try:
                await runner.run(dialogue, stream, heard.append)
            finally:
                runner.drop(stream)
                closed = stream.closed_by_peer
    except (OSError, TimeoutError):
        closed = True
    raw = b"".join(heard)
    if known and is_spoken(door.port, raw):
        return WordSeen(door.port, name, known, f"answers {name}, and does not say who it is")
    return WordSeen(door.port, name, known, "", raw, closed, loop.time() - began)
