"""The next address for a device to come."""

from __future__ import annotations

import asyncio
from collections.abc import Collection
from ipaddress import IPv4Address, IPv4Interface, IPv4Network

from portcall.core.adapters.adapter import Adapter
from portcall.core.address import assumed_network, hosts
from portcall.core.plan.rows import Plan
from portcall.core.plan.unplanned import networks_of, own_span, unplanned
from portcall.core.trouble import NotPossibleHere
from portcall.jobs.look.free import free_numbers
from portcall.jobs.telling import Tell
from portcall.jobs.workstation.match import not_for_devices
from portcall.site.folder import Site


def next_free(
    adapter: Adapter,
    site: Site,
    plan: Plan,
    tell: Tell,
    within: IPv4Network | None = None,
    also_avoid: Collection[IPv4Address] = (),
) -> IPv4Interface:
    """The next address for a device to come, with its mask, that nobody has and no row.

    ``within`` is the subnet that is meant; else the site's that this computer is on. Raises
    BadInput where that is not one, NotPossibleHere where nothing is free.
    """
    networks = networks_of(plan, site.subnets)
    span = hosts(within) if within is not None else own_span(adapter.interfaces, networks)
    avoid = {*not_for_devices(site, plan), *also_avoid}
    choices = unplanned(span, networks, avoid, frozenset(site.starting))
    found = asyncio.run(free_numbers(adapter, site.pace, choices, 1, tell))
    if not found.free:
        raise NotPossibleHere(f"{span}: no address is free there", "name the address yourself")
    (address,) = found.free
    known = [*networks, *(own.network for own in adapter.interfaces)]
    network = next((each for each in known if address in each), None) or assumed_network(address)
    return IPv4Interface((address, network.prefixlen))
