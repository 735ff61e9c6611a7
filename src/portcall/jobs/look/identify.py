"""Asking devices who they are over TCP: proof that programs get through to them."""

from __future__ import annotations

from collections.abc import Sequence
from ipaddress import IPv4Address

from portcall.core.find import cip_identity
from portcall.core.find.sighting import Method, Sighting
from portcall.core.wire import cip
from portcall.host.runner import Runner
from portcall.host.vantage import Vantage
from portcall.jobs.look.converse import Talk, converse


async def identify(
    runner: Runner, adapter: str, addresses: Sequence[IPv4Address]
) -> tuple[Sighting, ...]:
    """What each device says of itself by CIP; silent for those that speak none."""
    sightings: list[Sighting] = []
    talk = Talk(Method.CIP, (cip_identity.script,))
    doors = dict.fromkeys(addresses, (cip.PORT,))
    await converse(runner, Vantage(adapter), doors, lambda door: talk, sightings.append)
    return tuple(sightings)
