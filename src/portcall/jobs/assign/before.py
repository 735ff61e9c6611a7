"""The questions on the wire before serving: about other servers, and holders of addresses."""

from __future__ import annotations

import asyncio
import secrets
from collections.abc import Mapping
from dataclasses import dataclass, field
from ipaddress import IPv4Address

from portcall.core.adapters.adapter import Adapter
from portcall.core.address import Mac
from portcall.core.assign.lookout import LONGEST, Offer
from portcall.core.plan.rows import Plan
from portcall.core.talk.probe import AddressProbe, Taken
from portcall.host.adapter_watch import Cable, cable_of
from portcall.host.address_link import AddressLink
from portcall.host.pace import paced
from portcall.host.privilege import Privilege
from portcall.host.rights import require_asking
from portcall.jobs.look.holders import free_among
from portcall.jobs.telling import Tell
from portcall.jobs.workstation.lease import offers
from portcall.site.folder import Site

_LOOK = 0.1
"""Seconds between two looks at a cable that is out."""


@dataclass(frozen=True, slots=True)
class Before:
    """Other DHCP servers, and the planned addresses that somebody else has."""

    servers: tuple[Offer, ...] = ()
    held: Mapping[IPv4Address, Mac] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class LookingOut:
    """A question is out whether somebody serves here already; nobody is served meanwhile."""

    adapter: str

    def __str__(self) -> str:
        return f"asking on {self.adapter} whether another DHCP server is here, {LONGEST:g} s …"


@dataclass(frozen=True, slots=True)
class LookingAgain:
    """The cable was out meanwhile: who was not heard may be there."""

    adapter: str
    has_link: bool

    def __str__(self) -> str:
        when = "asking again" if self.has_link else "it is asked again when the link is back"
        return f"{self.adapter} lost its link meanwhile; {when}"


async def look_before(adapter: Adapter, site: Site, plan: Plan, tell: Tell) -> Before:
    """Ask who serves here, and for RFC 5227's time who has the planned addresses of this wire.

    It begins anew when the link is lost meanwhile. Raises NotPossibleHere.
    """
    require_asking(Privilege.NET_BIND_SERVICE)
    own = [each.ip for each in adapter.interfaces]
    async with cable_of(adapter.name) as cable:
        while True:
            losses = cable.losses
            tell(LookingOut(adapter.name))
            servers, held = await asyncio.gather(
                offers(adapter, secrets.randbits(32), own), _held(adapter, site, plan)
            )
            if cable.losses == losses:
                return Before(servers, held)
            tell(LookingAgain(adapter.name, cable.has_link))
            await _link_of(cable)


async def _held(adapter: Adapter, site: Site, plan: Plan) -> dict[IPv4Address, Mac]:
    """The holders of planned addresses that are not the planned devices."""
    assert adapter.mac is not None
    planned = {row.address: row.mac for row in plan if adapter.on_subnet_of(row.address)}
    probes = [AddressProbe(adapter.mac, address) for address in planned]
    held: dict[IPv4Address, Mac] = {}

    def taken(fact: Taken) -> None:
        if planned[fact.address] not in (None, fact.mac):
            held[fact.address] = fact.mac

    with paced(adapter.name, site.pace) as runner, runner.using(AddressLink(adapter.name)) as link:
        await free_among(runner, link, probes, taken)
    return held


async def _link_of(cable: Cable) -> None:
    while not cable.has_link:
        await asyncio.sleep(_LOOK)
