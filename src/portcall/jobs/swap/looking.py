"""Looking for the device that replaces one that is gone."""

from __future__ import annotations

import asyncio
from collections.abc import Sequence
from dataclasses import dataclass
from time import monotonic

from portcall.core.adapters.adapter import Adapter
from portcall.core.address import AddressRange
from portcall.core.find.device import Device
from portcall.core.find.protocols import WIRE_METHODS
from portcall.core.find.sighting import Field, Method
from portcall.core.plan.rows import Plan, PlannedDevice
from portcall.core.swap import (
    Candidate,
    Predecessor,
    candidates,
    predecessor,
    still_there,
)
from portcall.host.privilege import Privilege
from portcall.host.rights import require
from portcall.jobs.look.looked import look
from portcall.jobs.look.orders import gathering_for, orders_for, with_starting
from portcall.jobs.telling import Tell
from portcall.site.folder import Site
from portcall.site.logbook.settings import SettingsLog

_METHODS = tuple(method for method in WIRE_METHODS if method is not Method.PORTS)


@dataclass(frozen=True, slots=True)
class Around:
    """The result of looking around: the candidates, or the place where the old one is heard.

    ``servers`` are the devices that give out addresses by DHCP; ``asked_for_servers`` whether
    that was asked at all.
    """

    gone: Predecessor
    candidates: tuple[Candidate, ...]
    still_there: str | None
    devices: Sequence[Device]
    servers: tuple[Device, ...]
    asked_for_servers: bool


@dataclass(frozen=True, slots=True)
class NobodyNew:
    """No candidate was heard, and what to look at; ``waits`` says that the look begins again."""

    row: PlannedDevice
    waits: bool

    def __str__(self) -> str:
        again = "looking again until one is there; Ctrl-C ends it" if self.waits else ""
        return "\n".join(
            filter(
                None,
                (
                    f"no new device is heard that could replace {self.row.name}: no device that is "
                    "not planned asks for an address, has none, or is at a maker's default one",
                    "has it power, and a link light at its port? has somebody set an address in it "
                    "already? portcall find",
                    again,
                ),
            )
        )


def look_for_new(
    adapter: Adapter, site: Site, plan: Plan, row: PlannedDevice, wait: float, tell: Tell
) -> Around:
    """Look until a candidate or the old device is heard, for so many seconds after the first look.

    Raises NotPossibleHere, also where frames cannot be heard: who asks for an address would be
    missed.
    """
    require(Privilege.NET_RAW)
    until = None
    while True:
        around = _look(adapter, site, plan, row, tell)
        until = monotonic() + wait if until is None else until
        if around.candidates or around.still_there or monotonic() >= until:
            return around
        tell(NobodyNew(row, waits=True))


def _look(adapter: Adapter, site: Site, plan: Plan, row: PlannedDevice, tell: Tell) -> Around:
    gathering = gathering_for(site, plan)
    orders = with_starting(orders_for(adapter, site, gathering, methods=_METHODS))
    looked = asyncio.run(look(adapter, orders, gathering, tell=tell))
    looked.to_its_end()
    devices = gathering.devices()
    known = SettingsLog(site.folder).identities()
    maker = gathering.maker_of(row.mac) if row.mac is not None else None
    gone = predecessor(row, known.get(row.mac, {}) if row.mac is not None else {}, maker)
    starting = (AddressRange(each, each) for each in site.starting)
    defaults = (*site.maker_defaults, *gathering.catalog.defaults, *starting)
    not_run = {each.method for each in looked.look.not_run}
    return Around(
        gone,
        candidates(gone, plan, devices, defaults),
        still_there(row, devices),
        devices,
        tuple(device for device in devices if device.value(Field.SERVES)),
        Method.DHCP not in not_run,
    )
