"""What to look for at a site, and where sightings become devices with the names it has for them."""

from __future__ import annotations

from collections.abc import Collection, Sequence

from portcall.core.adapters.adapter import Adapter
from portcall.core.address import SELF_ASSIGNED, AddressRange, hosts, joined
from portcall.core.catalog.catalog import Catalog
from portcall.core.find.devices import Gathering
from portcall.core.find.sighting import Method
from portcall.core.plan.rows import Plan
from portcall.core.plan.targets import bounded
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
    )


def usual_ranges(
    adapter: Adapter, site: Site, plan: Plan, catalog: Catalog
) -> tuple[AddressRange, ...]:
    """Where to look when nobody says: the adapter's subnets, the site's, and makers' defaults.

    Not the self-assigned addresses: they are as many as make a sweep of six minutes.
    """
    spans = [hosts(own.network) for own in adapter.interfaces if own.ip not in SELF_ASSIGNED]
    spans += [hosts(subnet.network) for subnet in site.subnets]
    spans += [AddressRange(row.address, row.address) for row in plan]
    return bounded(joined([*spans, *site.maker_defaults, *catalog.defaults]))
