"""Planned devices that do not ask: one that is configured already is somewhere, and is named."""

from __future__ import annotations

from collections.abc import Collection, Iterator
from dataclasses import dataclass
from ipaddress import IPv4Address

from portcall.core.finding import Line, Name
from portcall.core.plan.rows import Plan
from portcall.core.plan.targets import Meant
from portcall.jobs.assign.rows import Served
from portcall.jobs.look.locate import locate
from portcall.jobs.telling import nobody


@dataclass(frozen=True, slots=True)
class HasAnAddress:
    """A device that did not ask has an address already, or has none and does not ask."""

    name: Name
    address: IPv4Address | None
    is_planned: bool = False

    def __str__(self) -> str:
        if self.address is None:
            return f"{self.name} does not ask, and has no address: {Line('move', self.name)}"
        if self.is_planned:
            line = Line("verify", self.name)
            return f"{self.name} does not ask: it is at {self.address}, as planned: {line}"
        return f"{self.name} does not ask: it is at {self.address}: {Line('move', self.name)}"


def where_the_silent_are(
    served: Served, plan: Plan, silent: Collection[str]
) -> Iterator[HasAnAddress]:
    """The devices among the ``silent`` rows that have an address. Raises NotPossibleHere."""
    rows = [row for row in plan if row.name in silent and row.mac is not None]
    if not rows:
        return
    meant = [Meant(row.name, row, row.mac) for row in rows]
    located = locate(served.adapter, served.site, plan, meant, nobody, everywhere=True)
    for row, found in zip(rows, located, strict=True):
        device = found.device
        if device is not None and device.addresses:
            address = device.addresses[0]
            yield HasAnAddress(row.name, address, address == row.address)
        elif device is not None and not device.asks:
            yield HasAnAddress(row.name, None)
