"""Orders for a look at a site, and the gathering that gives devices the site's names."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Sequence
from dataclasses import dataclass, replace
from ipaddress import IPv4Address, IPv4Network

from portcall.core.adapters.adapter import Adapter
from portcall.core.address import SELF_ASSIGNED, AddressRange, Mac, hosts, joined
from portcall.core.catalog.catalog import Catalog
from portcall.core.find.devices import Gathering
from portcall.core.find.protocols import WIRE_METHODS
from portcall.core.find.sighting import Method
from portcall.core.part_path import PartPath, Wanted
from portcall.core.plan.rows import Plan, PlannedDevice
from portcall.core.plan.targets import MOST_ADDRESSES, bounded
from portcall.core.talk.pacer import Pace
from portcall.jobs.look.findings import LISTEN_SECONDS, Orders
from portcall.jobs.look.inside import Inside, inside_of
from portcall.jobs.look.places import places_before
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
    """The orders for a look: the ranges named, or the usual ones, as the site has them."""
    plan, catalog = gathering.plan, gathering.catalog
    gateways = [subnet.gateway for subnet in site.subnets if subnet.gateway]
    return Orders(
        ranges or usual_ranges(adapter, site, plan, catalog),
        None if unpaced else pace or site.pace,
        methods,
        listen,
        site.community,
        catalog.all_doors,
        [subnet.network for subnet in site.subnets],
        site.workstation,
        [*(row.address for row in plan), *gateways],
        within=ranges,
        too_large=() if ranges else _subnets(adapter, site).left_out,
        starting=site.starting,
    )


def with_starting(orders: Orders) -> Orders:
    """Orders for a look that also asks who is where equipment commonly starts.

    Once, after what is nearer; twice where there is nothing nearer.
    """
    if orders.within or not orders.starting:
        return orders

    def further(sweep_round: int) -> Collection[IPv4Address]:
        return orders.starting if sweep_round == 1 or not orders.ranges else ()

    return replace(orders, further=further)


def with_places_of(
    orders: Orders, site: Site, gathering: Gathering, macs: Collection[Mac | None]
) -> Orders:
    """Orders for a look for some devices that also asks where such a one may be.

    Only when one was not heard where it was asked for: where equipment commonly starts, because it
    may have been reset, and where the records have seen it.
    """
    wanted = {mac for mac in macs if mac is not None}

    def further(sweep_round: int) -> Collection[IPv4Address]:
        if sweep_round == 1 and orders.ranges:
            return ()
        there = {each.mac for each in gathering.devices() if each.addresses or each.asks}
        missing = wanted - there
        return (*places_before(site, missing), *orders.starting) if missing else ()

    return replace(orders, further=further)


def of_rows(wanted: Wanted, rows: Iterable[PlannedDevice]) -> Wanted:
    """What to ask where parts were named by their rows: those, and no others."""
    named = list(rows)
    if wanted != Wanted() or not named or not all(row.has_no_address for row in named):
        return wanted
    asked = inside_of((row.part for row in named if row.part is not None), (), {})
    further = ((slot, at) for slot, addresses in asked.beyond.items() for at in addresses)
    return Wanted(tuple(asked.units), tuple(asked.slots or ()), tuple(further))


def with_inside(orders: Orders, gathering: Gathering, wanted: Wanted, unpaced: bool) -> Orders:
    """Orders for a look that also asks what is inside each device."""
    beyond: dict[int, list[IPv4Address]] = {}
    for slot, address in wanted.beyond:
        beyond.setdefault(slot, []).append(address)
    everything = Inside()
    asked = Inside(
        everything.units if wanted.units is None else wanted.units,
        wanted.slots,
        True,
        beyond,
        gathering.catalog.instruments,
        gathering.plan.unit_products(),
        0.0 if unpaced else everything.rest,
    )
    return replace(orders, inside=lambda address: asked)


def planned_inside(
    plan: Plan, rows: Iterable[PlannedDevice], gathering: Gathering
) -> dict[IPv4Address, Inside]:
    """What to ask inside of the devices that some rows are parts of, by their addresses."""
    paths: dict[IPv4Address, list[PartPath]] = {}
    for row in rows:
        device = plan.by_name(row.of) if row.of else None
        if device is not None and row.part is not None:
            paths.setdefault(device.address, []).append(row.part)
    instruments, products = gathering.catalog.instruments, plan.unit_products()
    return {at: inside_of(wanted, instruments, products) for at, wanted in paths.items()}


_MOST_SEARCHED = 1024
"""Addresses that are looked through for a device that is not where it is planned: 20 seconds."""


@dataclass(frozen=True, slots=True)
class NotSearched:
    """Only the planned addresses are asked, where there are too many others."""

    spans: Sequence[AddressRange]

    def __str__(self) -> str:
        shown = ", ".join(map(str, self.spans))
        return (
            f"{shown}: only the planned addresses are asked; who is elsewhere is not looked for "
            "among so many, and is named when it is heard"
        )


def searchable(
    ranges: Sequence[AddressRange], planned: Iterable[IPv4Address]
) -> tuple[tuple[AddressRange, ...], tuple[AddressRange, ...]]:
    """Where a device is looked for that may be anywhere: in ``ranges``, and where these have too
    many addresses at the planned ones alone; and those ranges that are left out."""
    near = [span for span in ranges if len(span) <= _MOST_SEARCHED]
    near += [AddressRange(address, address) for address in planned]
    return joined(near), tuple(span for span in ranges if len(span) > _MOST_SEARCHED)


def usual_ranges(
    adapter: Adapter, site: Site, plan: Plan, catalog: Catalog
) -> tuple[AddressRange, ...]:
    """Where to look when nobody says: the adapter's subnets, the site's, and makers' defaults.

    Not the self-assigned addresses: they are as many as make a sweep of six minutes. Nor subnets of
    more addresses than one sweep takes: planned devices are looked for in them, and others heard.
    """
    spans = [hosts(each) for each in _subnets(adapter, site).swept]
    spans += [AddressRange(row.address, row.address) for row in plan]
    return joined([*spans, *bounded(joined([*site.maker_defaults, *catalog.defaults]))])


@dataclass(frozen=True, slots=True)
class _Subnets:
    """The subnets of the adapter and of the site: those that one sweep takes, and the others."""

    swept: tuple[IPv4Network, ...]
    left_out: tuple[IPv4Network, ...]


def _subnets(adapter: Adapter, site: Site) -> _Subnets:
    own = [each.network for each in adapter.interfaces if each.ip not in SELF_ASSIGNED]
    networks = {*own, *(subnet.network for subnet in site.subnets)}
    swept: list[IPv4Network] = []
    left_out: list[IPv4Network] = []
    for each in sorted(networks, key=lambda network: (network.num_addresses, network)):
        # A subnet within another one adds no addresses.
        together = joined(map(hosts, [*swept, each]))
        fits = sum(map(len, together)) <= MOST_ADDRESSES
        (swept if fits else left_out).append(each)
    return _Subnets(tuple(swept), tuple(left_out))
