"""Asking devices what they are, from one vantage: all of them at once, then each of them.

Questions by UDP go through ``AskEach``, questions by TCP through ``converse``.
"""

from __future__ import annotations

import asyncio
from collections.abc import Collection, Iterable, Sequence
from contextlib import ExitStack
from functools import partial
from ipaddress import IPv4Address, IPv4Network

from portcall.core.find import cip_identity
from portcall.core.find.cip_identity import IdentityByBroadcast
from portcall.core.find.protocol import ToEach
from portcall.core.find.protocols import AT_DOOR, PROTOCOLS, WIRE_METHODS
from portcall.core.find.sighting import (
    Door,
    Field,
    IdentityQuestion,
    Method,
    Sighting,
    said_by,
    sighting_of,
)
from portcall.core.find.snmp_system import EngineQuestion, SystemGroup
from portcall.core.find.snmp_walk import Walk
from portcall.core.find.switch_tables import switch_tables
from portcall.core.talk.ask_each import ANSWER_WAITS, AskEach
from portcall.core.talk.conversation import Endpoint
from portcall.core.talk.pacer import sustained
from portcall.core.trouble import NotPossibleHere
from portcall.core.wire import cip, modbus
from portcall.host.datagrams import Datagrams
from portcall.host.runner import End, Runner
from portcall.host.vantage import Vantage
from portcall.jobs.look.converse import PATIENCE, Talk, converse
from portcall.jobs.look.findings import BETWEEN_BROADCASTS, Findings, Orders
from portcall.jobs.look.inside import Doors, Inside, ask_inside

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


async def ask_everybody(
    runner: Runner, found: Findings, vantage: Vantage, cip_done: asyncio.Event
) -> None:
    """The questions that all devices of a subnet hear, one after the other.

    ``cip_done`` is set when who hears broadcasts has had time to answer CIP.
    """
    assert vantage.interface is not None
    broadcast = vantage.interface.network.broadcast_address
    loop = asyncio.get_running_loop()
    with ExitStack() as stack, found.outlook.doing("broadcasts", _BROADCAST_SECONDS):
        ends: list[End] = []
        for method in (each for each in WIRE_METHODS if each in found.orders.methods):
            to_all = PROTOCOLS[method].to_all
            if to_all is None:
                continue
            if ends:
                await asyncio.sleep(BETWEEN_BROADCASTS)
            try:
                medium = stack.enter_context(runner.using(_opened(vantage, to_all.port)))
            except NotPossibleHere as trouble:
                found.cannot(method, str(trouble))
                continue
            asking = to_all.make(broadcast)
            ends.append(runner.start(asking, medium, found.report))
            if isinstance(asking, IdentityByBroadcast):
                stack.enter_context(found.hearing(medium))
                timer = loop.call_later(cip_identity.LONGEST_DELAY + _ON_ITS_WAY, cip_done.set)
                stack.callback(timer.cancel)
                stack.callback(_tell_refusal, found, asking)
        for end in ends:
            await end.wait()
    cip_done.set()


def _tell_refusal(found: Findings, asked: IdentityByBroadcast) -> None:
    if asked.refusal is not None:
        found.cannot(Method.CIP, f"{asked.refusal}: a question could not be sent")


def _opened(vantage: Vantage, port: int | None) -> Datagrams:
    """A socket for a question to all, on the port where its answers come in."""
    if port is None:
        return Datagrams.at(vantage)
    made: Datagrams = vantage.call(lambda: Datagrams(vantage.adapter, port, shared=True))
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
            # Devices that appear within a moment are asked together.
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

    async def ask_unknown(to_each: ToEach) -> None:
        await cip_done.wait()
        if others := unidentified():
            question = to_each.make(found.orders.community)
            await _by_datagram(runner, found, vantage, question, others)

    with found.outlook.doing("asking devices", seconds):
        async with asyncio.TaskGroup() as tasks:
            for method in wanted:
                to_each = PROTOCOLS[method].to_each
                if method is Method.SNMP:
                    tasks.create_task(_by_snmp(runner, found, vantage, addresses))
                elif to_each is not None and to_each.if_unknown:
                    tasks.create_task(ask_unknown(to_each))
                elif to_each is not None:
                    question = to_each.make(found.orders.community)
                    tasks.create_task(_by_datagram(runner, found, vantage, question, addresses))
            tasks.create_task(_knock(runner, found, vantage, addresses, cip_done))
    async with asyncio.TaskGroup() as tasks:
        for address in addresses:
            inside, device = found.orders.inside(address), found.device_at(address)
            if inside is not None and device not in found.asked_inside:
                found.asked_inside.add(device)
                tasks.create_task(_ask_inside(runner, found, vantage, address, inside))


async def _ask_inside(
    runner: Runner, found: Findings, vantage: Vantage, address: IPv4Address, wanted: Inside
) -> None:
    doors = Doors(
        cip=(address, cip.PORT) in found.open,
        modbus=(address, modbus.PORT) in found.open,
        snmp=address in found.by_snmp,
    )
    community, outlook = found.orders.community, found.outlook
    await ask_inside(runner, vantage, address, doors, wanted, community, found.report, outlook)


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
            asking = Walk(address, switch_tables(address), found.orders.community)
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
        said = said_by(Method.PORTS, (Field.DOOR, _called(door.port, found.orders)))
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
        # By then most devices have said who they are: only the others are asked again.
        await cip_done.wait()
        await knock((cip.PORT,), answered)


def _doors(orders: Orders) -> list[int]:
    """The ports to try: all of them, or those of the methods that were asked for."""
    wanted = orders.methods
    ports = dict.fromkeys((*orders.doors, *AT_DOOR))
    return [port for port in ports if Method.PORTS in wanted or _method_at(port) in wanted]


def _called(port: int, orders: Orders) -> Door:
    """A door with what it goes by: as people call it, or after the protocol behind it."""
    protocol = AT_DOOR.get(port)
    return Door(port, orders.doors.get(port) or (protocol.shown if protocol is not None else ""))


def _method_at(port: int) -> Method:
    protocol = AT_DOOR.get(port)
    return protocol.method if protocol is not None else Method.PORTS


def talk_at(door: Endpoint, wanted: Collection[Method], identified: bool = False) -> Talk:
    """The talk behind a port, of the methods wanted.

    A device that is ``identified`` has said already who it is.
    """
    protocol = AT_DOOR.get(door.port)
    if protocol is None or protocol.method not in wanted:
        return Talk(_method_at(door.port))
    behind = protocol.doors[door.port]
    return Talk(protocol.method, behind.scripts(door, identified), behind.secure)
