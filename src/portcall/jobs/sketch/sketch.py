"""The picture of a site, from a look and what the site knows."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from types import MappingProxyType

from portcall.core.address import Mac
from portcall.core.counted import counted
from portcall.core.find.overview import Scene
from portcall.core.find.sighting import Sighting
from portcall.core.finding import Line
from portcall.core.plan.rows import Plan
from portcall.core.record.look import SeenLook
from portcall.core.sketch.compose import DrawnLook, compose
from portcall.core.sketch.picture import Picture
from portcall.core.trouble import BadInput
from portcall.jobs.look.orders import gathering_for
from portcall.jobs.record.reading import NamedLook
from portcall.site.folder import Site

MOST_DEVICES = 2000
"""A drawing of more is a pile of sheets that nobody reads."""


def picture_of(
    site: Site,
    plan: Plan,
    meant: NamedLook,
    wired: NamedLook,
    parts: Mapping[Mac, Sequence[Sighting]] = MappingProxyType({}),
) -> Picture:
    """A look, held against the plan; its ports are as ``wired`` has them.

    ``parts`` are what earlier looks told of the inside of devices. Raises BadInput for more devices
    than can be drawn.
    """
    _check_count(len(meant.look) + len(plan.devices))
    gathering = gathering_for(site, plan)
    for each in meant.look.sightings():
        gathering.add(each)
    seen = {device.mac for device in gathering.devices()}
    for mac, earlier in parts.items():
        # Who is not here now is not here because something is known of its inside.
        for each in earlier if mac in seen else ():
            gathering.add(each._replace(address=None))
    subnets = site.subnets
    scene = Scene(gathering.devices(), meant.look.own_addresses, plan, subnets)
    entry = meant.entry
    when = f"seen on {entry.local:%Y-%m-%d %H:%M}" if entry else f"seen as in {meant.words}"
    who = f" by {entry.person} on {entry.workstation}" if entry and entry.person else ""
    told = f"{wired.entry.local:%Y-%m-%d %H:%M}" if wired is not meant and wired.entry else ""
    return compose(
        DrawnLook(
            site.label or "a plant network",
            f"{when}{who}; {counted(len(scene.devices), 'device')}",
            entry.adapter if entry else "",
            scene,
            meant.look,
            wired.look,
            told,
            subnets,
        )
    )


def picture_of_plan(site: Site, plan: Plan) -> Picture:
    """What is planned, without any look. Raises BadInput for more devices than can be drawn."""
    _check_count(len(plan.rows))
    scene = Scene((), (), plan, site.subnets)
    nothing = SeenLook(())
    devices = sum(not row.of for row in plan)
    about = f"as planned; {counted(devices, 'device')}; nothing was looked for"
    label, subnets = site.label or "a plant network", site.subnets
    return compose(
        DrawnLook(label, about, "", scene, nothing, nothing, subnets=subnets, is_planned=True)
    )


def _check_count(count: int) -> None:
    if count > 2 * MOST_DEVICES:
        raise BadInput(
            f"{counted(count, 'device')} in look and plan: up to {MOST_DEVICES:,} are drawn; "
            "look at fewer",
            Line("find", "RANGE"),
        )
