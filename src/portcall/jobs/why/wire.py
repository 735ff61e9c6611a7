"""Asking the wire: who answers for an address, and where a device is that does not."""

from __future__ import annotations

import asyncio
import secrets
from collections.abc import Collection, Mapping, Sequence
from dataclasses import replace
from ipaddress import IPv4Address, IPv4Network

from portcall.core.adapters.adapter import Adapter
from portcall.core.address import UNSPECIFIED, AddressRange, Mac, assumed_network, hosts
from portcall.core.assign.lookout import Offer
from portcall.core.find.device import Device
from portcall.core.find.sighting import Method
from portcall.core.plan.rows import Plan
from portcall.core.trouble import NotPossibleHere
from portcall.core.why.each_alone import EachAlone
from portcall.core.why.evidence import Sought, WireSeen
from portcall.core.why.who_has import WhoHas
from portcall.host.link import Link
from portcall.host.neighbours import known_neighbours, provoke
from portcall.host.runner import Runner
from portcall.jobs.look.looked import look
from portcall.jobs.look.orders import (
    gathering_for,
    orders_for,
    searchable,
    usual_ranges,
    with_places_of,
)
from portcall.jobs.telling import nobody
from portcall.jobs.workstation.lease import offers
from portcall.site.folder import Site

_OFFER_PATIENCE = 1.5
"""Seconds in which a machine that hands out addresses offers one; servers that first try whether it
is free take longer, and are left to ``match --dhcp``."""

LONG_PATIENCE = 0.5
"""Seconds that a silent device is asked for."""

ALONE_PATIENCE = 3.5
"""Seconds that one address is asked for alone, before nobody is said to be there: some devices
answer late, or not each time, or not when much else is asked."""

_LISTEN = 4.5
"""Seconds: a device that asks for an address does so every few of them."""

_LONG_ENOUGH = 2.0
"""Seconds after which a device that was heard is not looked for any further."""

_LOOK_EVERY = 0.05
_TELLING = (
    *(Method.ARP, Method.DCP, Method.CIP, Method.SNMP),
    *(Method.MODBUS, Method.OPCUA, Method.WEB),
)
"""Ways of saying who one is, of which each device can be asked alone."""

_SEEKING = (Method.LISTEN, Method.ARP, Method.DCP)


async def ask_wire(
    runner: Runner,
    adapter: Adapter,
    asked: Mapping[IPv4Address, IPv4Address | None],
    patience: float,
    decoys: Collection[IPv4Address] = (),
) -> WireSeen:
    """Ask ARP for each address, from the own address given with it, or from none.

    Who answers for all of the ``decoys``, too, answers for everybody, and is left out.
    """
    try:
        link = Link(adapter.name)
    except NotPossibleHere:
        return await _ask_kernel(adapter, asked, patience)
    assert adapter.mac is not None
    questions = dict.fromkeys(decoys, UNSPECIFIED)
    questions |= {address: own or UNSPECIFIED for address, own in asked.items()}
    conversation = WhoHas(adapter.mac, questions, patience)
    with runner.using(link):
        await runner.run(conversation, link, nobody)
    heard: dict[IPv4Network, set[Mac]] = {}
    for address, mac in conversation.overheard.items():
        heard.setdefault(assumed_network(address), set()).add(mac)
    networks = {network: len(macs) for network, macs in heard.items()}
    seen = WireSeen(conversation.answers, networks, overheard=conversation.overheard)
    return seen.without_those_for_all(decoys)


async def offers_for(adapter: Adapter, goal: IPv4Address) -> tuple[Offer, ...]:
    """Who hands out addresses here; asked where this computer has none that reaches the goal."""
    if adapter.on_subnet_of(goal) or adapter.any_route_to(goal) or adapter.mac is None:
        return ()
    try:
        return await offers(adapter, secrets.randbits(32), patience=_OFFER_PATIENCE)
    except NotPossibleHere:
        return ()


async def ask_each_alone(
    runner: Runner, adapter: Adapter, address: IPv4Address, macs: Sequence[Mac]
) -> Mapping[Mac, Mac]:
    """Which MAC answers what each of several was sent alone; nothing where that cannot be asked."""
    own = adapter.on_subnet_of(address)
    if own is None or adapter.mac is None:
        return {}
    conversation = EachAlone(adapter.mac, own.ip, address, macs)
    try:
        with runner.using(Link(adapter.name)) as link:
            await runner.run(conversation, link, nobody)
    except NotPossibleHere:
        return {}
    return conversation.answers


async def _ask_kernel(
    adapter: Adapter, asked: Mapping[IPv4Address, IPv4Address | None], patience: float
) -> WireSeen:
    """The MACs that the kernel finds for addresses in its subnets, when it has to send there."""
    wanted = {address for address, own in asked.items() if own is not None}
    if not wanted:
        return WireSeen(None)
    before = known_neighbours(adapter.name)
    provoke(adapter.name, wanted)
    loop = asyncio.get_running_loop()
    until = loop.time() + patience
    while True:
        known = known_neighbours(adapter.name)
        answers = {address: [known[address]] for address in wanted if address in known}
        if len(answers) == len(wanted) or loop.time() >= until:
            learnt = frozenset(answers) - set(before)
            return WireSeen(answers, by_kernel=True, learnt_now=learnt)
        await asyncio.sleep(_LOOK_EVERY)


async def seek(
    adapter: Adapter, site: Site, plan: Plan, goal: IPv4Address, mac: Mac | None
) -> Sought:
    """Look around after nobody answered: at every likely address, by DCP, and who asks."""
    gathering = gathering_for(site, plan)
    orders = orders_for(adapter, site, gathering, methods=_SEEKING, listen=_LISTEN)
    usual = usual_ranges(adapter, site, plan, gathering.catalog)
    near, large = searchable(usual, [goal, *(row.address for row in plan)])
    orders = replace(orders, ranges=near, borrows=False)
    orders = with_places_of(orders, site, gathering, [mac])
    loop = asyncio.get_running_loop()
    began = loop.time()

    def enough(seconds: float) -> bool:
        if seconds < _LONG_ENOUGH or mac is None:
            return False
        return any(
            device.mac == mac and (device.addresses or device.asks or Method.DCP in device.methods)
            for device in gathering.devices()
        )

    await look(adapter, orders, gathering, enough=enough)
    too_large = [*large, *map(hosts, orders.too_large)]
    return Sought(gathering.devices(), loop.time() - began, too_large)


async def devices_at(
    adapter: Adapter, site: Site, plan: Plan, address: IPv4Address
) -> list[Device]:
    """The identities of several devices at an address: each is asked alone."""
    gathering = gathering_for(site, plan)
    here = AddressRange(address, address)
    orders = orders_for(adapter, site, gathering, [here], methods=_TELLING, listen=0.0)
    await look(adapter, orders, gathering)
    found = gathering.devices()
    return [each for each in found if each.mac is not None and address in each.addresses]
