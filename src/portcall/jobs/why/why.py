"""From the typed words to a climb that can be run."""

from __future__ import annotations

import os
from dataclasses import replace
from ipaddress import IPv4Address, IPv4Interface

from portcall.core.adapters.adapter import choose_for
from portcall.core.address import check_host
from portcall.core.catalog.doors import parse_door
from portcall.core.finding import Line, Name
from portcall.core.part_path import PartKind
from portcall.core.plan.rows import Plan
from portcall.core.plan.targets import parse_part, parse_target
from portcall.core.trouble import BadInput
from portcall.core.why.ladder import Goal
from portcall.core.wire import cip, modbus
from portcall.host.adapters import way_out
from portcall.jobs.record.reading import doors_before
from portcall.jobs.why.climb import Climb
from portcall.jobs.workstation.adapters import adapters_now, named_before
from portcall.site.catalogs import read_catalogs
from portcall.site.folder import Site

_LEADS_TO = {PartKind.UNIT: modbus.PORT, PartKind.SLOT: cip.PORT, PartKind.PORT: cip.PORT}
"""The door of a device by which its parts are asked."""


def prepare(text: str, door: str | None, adapter: str | None, site: Site, plan: Plan) -> Climb:
    """A climb to what was typed. Raises BadInput, NotPossibleHere."""
    text, part = parse_part(text, plan)
    address = parse_target(text, plan)
    if not isinstance(address, IPv4Address):
        raise BadInput(f"{text}: is a subnet", "name one device by its address or planned name")
    doors = read_catalogs(site.folder).all_doors
    port = None if door is None else parse_door(door, doors)
    if part is not None and door is not None:
        raise BadInput(f"{door}: {part.path} has no door of its own", "leave it out")
    if part is not None:
        port = _LEADS_TO[part.path.steps[0].kind]
    row = plan.by_address(address)
    adapters = adapters_now()
    way = way_out(address)
    holder = next((a.name for a in adapters for own in a.interfaces if own.ip == address), None)
    if holder is not None:
        raise BadInput(
            f"{address}: is this computer's own address, on {holder}; to take another for it",
            Line("match", row.name if row else address, "--replace", "--adapter", Name(holder)),
        )
    near = next((own for each in adapters if (own := each.on_subnet_of(address))), None)
    if near is not None:
        check_host(IPv4Interface((address, near.network.prefixlen)))
    if way.adapter is None and way.refused is None and not way.own:
        raise BadInput(f"{address}: is everybody's address there, a broadcast", "name one device")
    before = named_before(site)
    named = adapter or (before.name if before else None)
    chosen = choose_for(adapters, named, address, way.adapter)
    name = row.name if row is not None else Name(str(address))
    goal = Goal(address, name, port, doors.get(port or 0, ""))
    if part is not None:
        goal = replace(goal, part=part.path, part_name=part.name)
    return Climb(
        goal,
        chosen,
        adapters,
        site,
        plan,
        row,
        doors,
        dict(os.environ),
        site.pace,
        named is not None,
        doors_before(site, address, row.mac if row is not None else None),
    )
