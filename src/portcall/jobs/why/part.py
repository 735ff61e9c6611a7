"""Asking for one part of a device, and for a few beside it, to tell the part from the line."""

from __future__ import annotations

from ipaddress import IPv4Address

from portcall.core.find.devices import merge
from portcall.core.find.modbus_identity import ANSWER_WAIT
from portcall.core.find.outlook import Outlook
from portcall.core.find.sighting import FoundPart, Sighting
from portcall.core.part_path import PartKind, PartPath
from portcall.core.plan.rows import Plan
from portcall.core.why.parts import PartSeen
from portcall.host.runner import Runner
from portcall.host.vantage import Vantage
from portcall.jobs.look.inside import Doors, ask_inside, inside_of
from portcall.site.catalogs import read_catalogs
from portcall.site.folder import Site

_MOST_BESIDE = 3
"""Other units that are asked, those that are planned."""


async def ask_for_part(
    runner: Runner,
    vantage: Vantage,
    address: IPv4Address,
    wanted: PartPath,
    site: Site,
    plan: Plan,
) -> PartSeen:
    """Ask for a part of the device at an address, and where it is a unit, for others beside it."""
    first = wanted.steps[0]
    beside: list[PartPath] = []
    if first.kind is PartKind.UNIT:
        rows = (row for row in plan.parts if row.address == address and row.part is not None)
        units = [row.part for row in rows if row.part and row.part.kind is PartKind.UNIT]
        beside = [path for path in units if path != wanted][:_MOST_BESIDE]
    instruments = read_catalogs(site.folder).instruments
    inside = inside_of((wanted, *beside), instruments, plan.unit_products())
    seen: list[Sighting] = []
    doors = Doors(
        cip=first.kind is not PartKind.UNIT,
        modbus=first.kind is PartKind.UNIT,
        snmp=first.kind is PartKind.PORT,
    )
    community = site.community
    await ask_inside(runner, vantage, address, doors, inside, community, seen.append, Outlook())
    parts: dict[PartPath, FoundPart] = {}
    for device in merge(seen, plan=plan):
        parts |= {part.path: part for part in device.parts}
    part = parts.pop(wanted, None)
    others = [each for each in parts.values() if each.path.kind is wanted.kind]
    return PartSeen(part, others, ANSWER_WAIT)
