"""Proof that a device keeps its address: somebody switches it off and on, and this watches."""

from __future__ import annotations

import asyncio
from dataclasses import dataclass

from portcall.core.adapters.adapter import Adapter
from portcall.core.finding import Finding, Line
from portcall.core.plan.rows import Plan
from portcall.core.plan.targets import Meant
from portcall.core.setting import sentences as say
from portcall.core.setting.power_cycle import PowerCycle, Return
from portcall.core.setting.whereabouts import Whereabout, Whereabouts
from portcall.host.rights import require_asking
from portcall.jobs.look.locate import Located, locate
from portcall.jobs.setting.follow import follow
from portcall.jobs.telling import Tell
from portcall.site.folder import Site


@dataclass(frozen=True, slots=True)
class Cycled:
    """The course of a power cycle; ``judged`` is None when the device was not there at first."""

    found: Located
    judged: Return | None
    finding: Finding
    seconds: float | None = None


@dataclass(frozen=True, slots=True)
class SwitchItOff:
    """Now somebody is to switch the device off and on."""

    found: Located
    wait: float

    def __str__(self) -> str:
        meant = self.found.meant
        assert meant.row is not None
        return (
            f"switch {meant.name} off and on; watching {self.found.mac} at {meant.row.address}, "
            f"{self.wait:.0f} s …"
        )


def watch_power_cycle(
    adapter: Adapter, site: Site, plan: Plan, meant: Meant, wait: float, tell: Tell
) -> Cycled:
    """Watch a planned device vanish and return. Raises NotPossibleHere."""
    assert meant.row is not None
    require_asking()
    (found,) = locate(adapter, site, plan, [meant], tell)
    address = meant.row.address
    if found.device is None or address not in found.device.addresses:
        reason = found.reason or say.NOT_AT_PLANNED(Line("verify"), address=address)
        return Cycled(found, None, reason)
    tell(SwitchItOff(found, wait))
    assert adapter.mac is not None
    device = Whereabouts(adapter.mac, found.mac, (address,), site.default_addresses())
    cycle = PowerCycle(address)

    def take(fact: Whereabout) -> None:
        before = cycle.was_off
        cycle.take(fact)
        if cycle.was_off and not before:
            tell(say.IS_OFF())

    def over(now: float) -> bool:
        return cycle.judged(now) is not None

    done = asyncio.run(follow(adapter.name, device, over, wait, take))
    judged = cycle.judged(float("inf")) if done else cycle.judged_at_last()
    return Cycled(found, judged, cycle.finding, cycle.seconds())
