"""Asking devices what they are, from one vantage: all of them at once, then each of them.

Questions by UDP go through ``AskEach``, questions by TCP through ``converse``.
"""

from __future__ import annotations

import asyncio
from collections.abc import Callable, Collection, Iterable, Sequence
from contextlib import ExitStack
from functools import partial
from ipaddress import IPv4Address, IPv4Network
from typing import Any

from portcall.core.address import LIMITED_BROADCAST
from portcall.core.find import (
    cip_identity,
    cip_interface,
    modbus_identity,
    opcua_server,
    web_page,
)
from portcall.core.find.bacnet_devices import BacnetDevices
from portcall.core.find.cip_identity import IdentityByAddress, IdentityByBroadcast
from portcall.core.find.mdns_names import MdnsNames
from portcall.core.find.netbios_names import NodeStatusQuestion
from portcall.core.find.sighting import (
    Door,
    Field,
    IdentityQuestion,
    Learnt,
    Method,
    Sighting,
    said_by,
    sighting_of,
)
from portcall.core.find.snmp_system import EngineQuestion, SystemGroup
from portcall.core.find.switch_tables import ReadTables
from portcall.core.talk.ask_each import ANSWER_WAITS, AskEach
from portcall.core.talk.conversation import Conversation, Datagram, Endpoint
from portcall.core.talk.dialogue import Script
from portcall.core.talk.pacer import sustained
from portcall.core.trouble import NotPossibleHere
from portcall.core.wire import bacnet, cip, modbus, opcua
from portcall.host.datagrams import Datagrams
from portcall.host.runner import End, Runner
from portcall.host.vantage import Vantage
from portcall.jobs.look.converse import PATIENCE, Talk, converse
from portcall.jobs.look.findings import BETWEEN_BROADCASTS, Findings, Orders

_BROADCAST_SECONDS = 2.8
_ON_ITS_WAY = 0.1
"""Seconds that an answer takes at most, besides what the device puts it off by."""

_TOGETHER = 0.1

_PACKETS_TO_EACH = 12
"""How many packets one device is sent besides attempts at its ports; a rough figure, for the time
left.
"""

_PACKETS_OF_A_TALK = 30
"""How many packets one device is sent behind one door, at most."""

_METHOD_AT = {
    cip.PORT: Method.CIP,
    modbus.PORT: Method.MODBUS,
    opcua.PORT: Method.OPCUA,
    web_page.PORT: Method.WEB,
    web_page.SECURE_PORT: Method.WEB,
    web_page.OTHER_PORT: Method.WEB,
}


async def ask_everybody(
    runner: Runner, found: Findings, vantage: Vantage, cip_done: asyncio.Event
) -> None:
    """The questions that all devices of a subnet hear, one after the other.

    ``cip_done`` is set when who hears broadcasts has had time to answer CIP.
    """
    assert vantage.interface is not None
    broadcast = vantage.interface.network.broadcast_address
    ask = IdentityByBroadcast((LIMITED_BROADCAST,))
    everything: tuple[tuple[Method, Conversation[Datagram, Sighting], Any], ...] = (
        (Method.CIP, ask, partial(Datagrams.at, vantage)),
        (Method.BACNET, BacnetDevices((broadcast,)), partial(_bacnet_port, vantage)),
        (Method.MDNS, MdnsNames(), partial(Datagrams.at, vantage)),
    )
    loop = asyncio.get_running_loop()
    with ExitStack() as stack, found.outlook.doing("broadcasts", _BROADCAST_SECONDS):
        ends: list[End] = []
        for method, conversation, opened in everything:
            if method not in found.orders.methods:
                continue
            if ends:
                await asyncio.sleep(BETWEEN_BROADCASTS)
            try:
                medium = stack.enter_context(runner.using(opened()))
            except NotPossibleHere as trouble:
                found.cannot(method, str(trouble))
                continue
            ends.append(runner.start(conversation, medium, found.report))
            if method is Method.CIP:
                stack.enter_context(found.hearing(medium))
                timer = loop.call_later(cip_identity.LONGEST_DELAY + _ON_ITS_WAY, cip_done.set)
                stack.callback(timer.cancel)
        for end in ends:
            await end.wait()
    cip_done.set()
    if ask.refusal is not None:
        found.cannot(Method.CIP, f"{ask.refusal}: a question could not be sent")


def _bacnet_port(vantage: Vantage) -> Datagrams:
    """A socket on BACnet's own port, where answers to Who-Is arrive, often by broadcast."""
    made: Datagrams = vantage.call(lambda: Datagrams(vantage.adapter, bacnet.PORT, shared=True))
    return made


async def ask_devices(
    runner: Runner,
    found: Findings,
    vantage: Vantage,
    everybody: asyncio.Task[None],
    cip_done: asyncio.Event,
    narrower: Sequence[IPv4Network] = (),
) -> None:
    """Ask each device of this vantage's subnet as it appears, until no more can appear.

    Those in ``narrower`` subnets are asked from there, as the kernel would (RFC 1812 §5.2.4.3).
    """
    assert vantage.interface is not None
    network = vantage.interface.network

    def is_here(address: IPv4Address) -> bool:
        return address in network and not any(address in other for other in narrower)

    found.asked.add(vantage.interface.ip)
    async with asyncio.TaskGroup() as batches:
        while True:
            is_last = everybody.done() and found.swept.is_set()
            new = [a for a in found.addresses if is_here(a) and a not in found.asked]
            if new:
                found.asked.update(new)
                batches.create_task(ask_these(runner, found, vantage, new, cip_done))
            elif is_last:
                return
            # Those that appear within a moment are asked together.
            await asyncio.sleep(_TOGETHER)


async def ask_these(
    runner: Runner,
    found: Findings,
    vantage: Vantage,
    addresses: list[IPv4Address],
    cip_done: asyncio.Event,
) -> None:
    """Ask each of some devices what it is, once all have had time to answer a broadcast."""
    wanted = found.orders.methods
    packets = len(found.addresses) * (len(_doors(found.orders)) + _PACKETS_TO_EACH)
    seconds = packets / sustained(found.pace.in_all) + sum(ANSWER_WAITS)

    def unidentified() -> list[IPv4Address]:
        return [address for address in addresses if address not in found.identified]

    async def silent_to_cip() -> None:
        await cip_done.wait()
        if Method.CIP in wanted and (silent := unidentified()):
            await _by_datagram(runner, found, vantage, IdentityByAddress(), silent)

    async def by_netbios() -> None:
        # A computer's name: what said by CIP what it is, is none.
        await cip_done.wait()
        if Method.NETBIOS in wanted and (others := unidentified()):
            await _by_datagram(runner, found, vantage, NodeStatusQuestion(), others)

    with found.outlook.doing("asking devices", seconds):
        async with asyncio.TaskGroup() as tasks:
            tasks.create_task(silent_to_cip())
            tasks.create_task(by_netbios())
            if Method.SNMP in wanted:
                tasks.create_task(_by_snmp(runner, found, vantage, addresses))
            tasks.create_task(_knock(runner, found, vantage, addresses, cip_done))


async def _by_snmp(
    runner: Runner, found: Findings, vantage: Vantage, addresses: Iterable[IPv4Address]
) -> None:
    system = SystemGroup(found.orders.community)
    silent = await _by_datagram(runner, found, vantage, system, addresses)
    await _tables(runner, found, vantage, [each for each in addresses if each in found.by_snmp])
    silent = [address for address in silent if address not in found.identified]
    if silent:
        await _by_datagram(runner, found, vantage, EngineQuestion(), silent)


async def _tables(
    runner: Runner, found: Findings, vantage: Vantage, addresses: Iterable[IPv4Address]
) -> None:
    """Ask those that speak SNMP for a switch's tables, each one question at a time."""
    with ExitStack() as stack:
        ends = []
        for address in addresses:
            asking = ReadTables(address, found.orders.community)
            medium = stack.enter_context(runner.using(Datagrams.at(vantage, refusals=True)))
            ends.append(runner.start(asking, medium, found.take_switch))
        for end in ends:
            await end.wait()


async def _by_datagram(
    runner: Runner,
    found: Findings,
    vantage: Vantage,
    question: IdentityQuestion,
    addresses: Iterable[IPv4Address],
) -> list[IPv4Address]:
    """Ask each; gives those that stay silent."""
    asking = AskEach(question, addresses, partial(sighting_of, question.method))
    with ExitStack() as stack:
        medium = stack.enter_context(runner.using(Datagrams.at(vantage, refusals=True)))
        if question.method is Method.CIP:
            stack.enter_context(found.hearing(medium))
        await runner.run(asking, medium, found.report)
    if asking.refusal is not None:
        found.cannot(question.method, f"{asking.refusal}: a question could not be sent")
    return asking.silent


async def _knock(
    runner: Runner,
    found: Findings,
    vantage: Vantage,
    addresses: list[IPv4Address],
    cip_done: asyncio.Event,
) -> None:
    """Try every port of the trade, and ask what is behind those that open."""

    def opened(door: Endpoint) -> Talk:
        now = asyncio.get_running_loop().time()
        opened_here = Door(door.port, found.orders.ports.get(door.port, ""))
        said = said_by(Method.PORTS, (Field.PORT, opened_here))
        found.report(Sighting(now, Method.PORTS, address=door.address, said=said))
        return talk_at(door, found.orders.methods, door.address in found.identified)

    async def knock(
        ports: Sequence[int], proven: Collection[IPv4Address] = ()
    ) -> Collection[IPv4Address]:
        doors = dict.fromkeys(addresses, ports)
        patience = PATIENCE + _PACKETS_OF_A_TALK / found.pace.to_one
        report, at = found.report, found.device_at
        return await converse(runner, vantage, doors, opened, report, proven, at, patience)

    doors = _doors(found.orders)
    answered = await knock([port for port in doors if port != cip.PORT])
    if cip.PORT in doors:
        # By then it is known of most devices who they are: only the others are asked that again.
        await cip_done.wait()
        await knock((cip.PORT,), answered)


def _doors(orders: Orders) -> list[int]:
    """The ports to try: all of them, or those of the methods that were asked for."""
    wanted = orders.methods
    return [
        port for port in orders.ports if Method.PORTS in wanted or _METHOD_AT.get(port) in wanted
    ]


def talk_at(door: Endpoint, wanted: Collection[Method], identified: bool = False) -> Talk:
    """What to ask behind a port, of the methods wanted.

    A device that is ``identified`` has said already who it is.
    """
    method = _METHOD_AT.get(door.port, Method.PORTS)
    scripts: list[Callable[[], Script[Learnt | web_page.Onward]]] = []
    if method not in wanted:
        pass
    elif method is Method.CIP:
        if not identified:
            scripts.append(cip_identity.script)
        scripts.append(partial(cip_interface.script, door.address))
    elif method is Method.MODBUS:
        scripts.append(modbus_identity.script)
    elif method is Method.OPCUA:
        scripts.append(partial(opcua_server.script, door.address))
    elif method is Method.WEB:
        secure = door.port == web_page.SECURE_PORT
        scripts.append(partial(web_page.script, door.address, door.port, secure))
    secure = door.port == web_page.SECURE_PORT and bool(scripts)
    return Talk(method, scripts, secure)
