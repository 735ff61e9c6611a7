"""What to look for at a site, and where sightings become devices with the names it has for them."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from ipaddress import IPv4Network

from portcall.core.adapters.adapter import Adapter
from portcall.core.address import SELF_ASSIGNED, AddressRange, hosts, joined
from portcall.core.catalog.catalog import Catalog
from portcall.core.find.devices import Gathering
from portcall.core.find.sighting import Method
from portcall.core.plan.rows import Plan
from portcall.core.plan.targets import MOST_ADDRESSES, bounded
from portcall.core.talk.pacer import Pace
from portcall.jobs.look.findings import LISTEN_SECONDS, WIRE_METHODS, Orders
from portcall.site.catalogs import read_catalogs
from portcall.site.folder import Site
from portcall.site.makers import maker_lookup


def gathering_for(
    site: Site, plan: Plan | None = None, catalog: Catalog | None = None
) -> Gathering:
    """Where sightings become devices, with all the names this site has for them.

    Plan and catalogue are the site's, unless others are given. Raises PlanError, BadInput.
    """
    return Gathering(
        maker_lookup(site.makers),
        site.plan() if plan is None else plan,
        read_catalogs(site.folder) if catalog is None else catalog,
    )


def orders_for(
    adapter: Adapter,
    site: Site,
    gathering: Gathering,
    ranges: Sequence[AddressRange] = (),
    methods: Collection[Method] = WIRE_METHODS,
    pace: Pace | None = None,
    unpaced: bool = False,
    listen: float = LISTEN_SECONDS,
) -> Orders:
    """What to look for: the ranges named, or the usual ones, as the site has it."""
    plan, catalog = gathering.plan, gathering.catalog
    gateways = [subnet.gateway for subnet in site.subnets if subnet.gateway]
    return Orders(
        ranges or usual_ranges(adapter, site, plan, catalog),
        None if unpaced else pace or site.pace,
        methods,
        listen,
        site.community,
        catalog.all_ports,
        [subnet.network for subnet in site.subnets],
        site.workstation,
        [*(row.address for row in plan), *gateways],
        within=ranges,
        too_large=() if ranges else tuple(n for n in _networks(adapter, site) if _is_large(n)),
    )


def usual_ranges(
    adapter: Adapter, site: Site, plan: Plan, catalog: Catalog
) -> tuple[AddressRange, ...]:
    """Where to look when nobody says: the adapter's subnets, the site's, and makers' defaults.

    Not the self-assigned addresses: they are as many as make a sweep of six minutes. Nor a subnet
    of more addresses than one sweep takes: planned devices are looked for in it, and others heard.
    """
    spans = [hosts(each) for each in _networks(adapter, site) if not _is_large(each)]
    spans += [AddressRange(row.address, row.address) for row in plan]
    return bounded(joined([*spans, *site.maker_defaults, *catalog.defaults]))


def _networks(adapter: Adapter, site: Site) -> list[IPv4Network]:
    own = [each.network for each in adapter.interfaces if each.ip not in SELF_ASSIGNED]
    return [*own, *(subnet.network for subnet in site.subnets)]


def _is_large(network: IPv4Network) -> bool:
    return network.num_addresses > MOST_ADDRESSES
