"""Standing right beside a device, for the time of asking: no mask of it leaves that out."""

from __future__ import annotations

from collections.abc import Collection
from ipaddress import IPv4Address, IPv4Interface
from itertools import islice

from portcall.core.adapters.adapter import Adapter
from portcall.core.adapters.own_address import Wanted, nearest
from portcall.core.talk.probe import AddressProbe
from portcall.host.leg import Leg
from portcall.host.link import Link
from portcall.host.runner import Runner
from portcall.jobs.look.holders import free_among

_NEAR_PREFIX = 30
_TRIED = 2


async def leg_beside(
    runner: Runner, adapter: Adapter, address: IPv4Address, avoid: Collection[IPv4Address]
) -> Leg | None:
    """A leg at one of the addresses nearest to a device's, which the caller closes.

    None when none of them is free; ``avoid`` are not taken. Raises NotPossibleHere.
    """
    assert adapter.mac is not None
    own = adapter.on_subnet_of(address)
    prefix = own.network.prefixlen if own else _NEAR_PREFIX
    network = IPv4Interface((address, prefix)).network
    near = islice(nearest(Wanted(network, address, "near"), avoid), _TRIED)
    choices = [each for each in near if own is None or each != own.ip]
    probes = [AddressProbe(adapter.mac, each) for each in choices]
    with runner.using(Link(adapter.name)) as link:
        free = await free_among(runner, link, probes)
    chosen = next((each for each in choices if each in free), None)
    if chosen is None:
        return None
    return Leg(runner, adapter.name, IPv4Interface((chosen, prefix)))
