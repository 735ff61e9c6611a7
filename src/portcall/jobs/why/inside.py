"""Asking a device from an address near to its own, borrowed for the time of asking."""

from __future__ import annotations

import asyncio
from collections.abc import Iterable
from contextlib import closing
from functools import partial
from ipaddress import IPv4Address

from portcall.core.adapters.adapter import Adapter
from portcall.core.address import Mac
from portcall.core.find import cip_interface, web_page
from portcall.core.find.sighting import Method, Sighting, mask_in, sighting_of
from portcall.core.find.snmp_system import MaskQuestion
from portcall.core.plan.rows import Plan
from portcall.core.reach.echo_facts import Fact, Replied
from portcall.core.reach.ping import Ping
from portcall.core.talk.ask_each import AskEach
from portcall.core.trouble import NotPossibleHere
from portcall.core.why.evidence import FromInside
from portcall.core.wire import cip, modbus
from portcall.host.datagrams import Datagrams
from portcall.host.echoes import Echoes
from portcall.host.runner import Runner
from portcall.host.vantage import Vantage
from portcall.jobs.look.converse import Talk, converse
from portcall.jobs.look.near import leg_beside
from portcall.jobs.setting.exchanges import read_by_dcp
from portcall.jobs.together import end
from portcall.site.folder import Site


async def ask_from_inside(
    runner: Runner,
    adapter: Adapter,
    address: IPv4Address,
    mac: Mac | None,
    site: Site,
    plan: Plan,
) -> FromInside:
    """Whether a device answers somebody whom no mask can leave out, and what its mask is.

    Its mask is what it says by CIP, by DCP, which needs no address, or by SNMP.
    """
    by_dcp = asyncio.ensure_future(_mask_by_dcp(adapter.name, mac))
    try:
        leg = await leg_beside(runner, adapter, address, site.reserved(plan))
        if leg is None:
            return FromInside(mask=await by_dcp, by="DCP")
        with closing(leg):
            assert leg.vantage.interface is not None
            free = leg.vantage.interface.ip
            (answered, mask), by_snmp = await asyncio.gather(
                _ask(runner, leg.vantage, address),
                _mask_by_snmp(runner, leg.vantage, address, site.community),
            )
        told = {"CIP": mask, "DCP": await by_dcp, "SNMP": by_snmp}
    except NotPossibleHere:
        return FromInside()
    finally:
        await end(by_dcp)
    by, said = next(((by, each) for by, each in told.items() if each is not None), ("", None))
    return FromInside(free, answered, said, by)


async def _mask_by_snmp(
    runner: Runner, vantage: Vantage, address: IPv4Address, community: str
) -> IPv4Address | None:
    seen: list[Sighting] = []
    told = partial(sighting_of, Method.SNMP)
    with runner.using(Datagrams.at(vantage, refusals=True)) as medium:
        await runner.run(AskEach(MaskQuestion(community), (address,), told), medium, seen.append)
    return _mask(seen)


def _mask(seen: Iterable[Sighting]) -> IPv4Address | None:
    return mask_in(each for one in seen for each in one.said)


async def _mask_by_dcp(adapter: str, mac: Mac | None) -> IPv4Address | None:
    seen = await read_by_dcp(adapter, mac) if mac is not None else None
    return _mask((seen,) if seen is not None else ())


async def _ask(
    runner: Runner, vantage: Vantage, address: IPv4Address
) -> tuple[bool, IPv4Address | None]:
    """Whether it answers at all, an echo or a door, and its mask where it tells that."""
    echoed: list[Replied] = []

    def take(fact: Fact) -> None:
        if isinstance(fact, Replied):
            echoed.append(fact)

    with runner.using(vantage.call(lambda: Echoes(vantage.adapter))) as echoes:
        await runner.run(Ping([address], echoes.identifier, 2, 0.1, 0.5), echoes, take)
    seen: list[Sighting] = []
    talk = Talk(Method.CIP, (partial(cip_interface.script, address),))
    nothing = Talk(Method.PORTS)
    doors = {address: (cip.PORT, web_page.PORT, modbus.PORT)}
    answered = await converse(
        runner,
        vantage,
        doors,
        lambda door: talk if door.port == cip.PORT else nothing,
        seen.append,
    )
    return bool(echoed) or address in answered, _mask(seen)
