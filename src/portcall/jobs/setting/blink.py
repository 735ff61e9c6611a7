"""Having a device show itself, so that a person finds it in the cabinet."""

from __future__ import annotations

import asyncio
from dataclasses import dataclass

from portcall.core.adapters.adapter import Adapter
from portcall.core.address import Mac
from portcall.core.find.sighting import Method
from portcall.core.finding import Finding
from portcall.core.plan.rows import Plan
from portcall.core.plan.targets import Meant
from portcall.core.setting import sentences as say
from portcall.core.wire import dcp
from portcall.host.privilege import Privilege
from portcall.host.rights import require
from portcall.jobs.look.locate import Located, locate
from portcall.jobs.setting.exchanges import set_by_dcp
from portcall.jobs.telling import Tell
from portcall.site.folder import Site

_FLASH = 3.0
"""Seconds that one signal lasts (IEC 61158-6-10, SignalValue)."""


@dataclass(frozen=True, slots=True)
class Blinking:
    """The device is being told to flash its lamp."""

    found: Located
    seconds: float

    def __str__(self) -> str:
        name, mac = self.found.meant.name, self.found.mac
        return f"{name}, {mac}, flashes for {self.seconds:.0f} s; Ctrl-C ends it"


def blink(
    adapter: Adapter, site: Site, plan: Plan, meant: Meant, seconds: float, tell: Tell
) -> tuple[Located, Finding | None]:
    """Find a device and have it show itself; why it does not, or None. Raises NotPossibleHere."""
    require(Privilege.NET_RAW)
    (found,) = locate(adapter, site, plan, [meant], tell, everywhere=meant.address is None)
    if found.device is None:
        return found, found.reason
    if Method.DCP not in found.device.methods:
        return found, say.NO_SIGNAL()
    tell(Blinking(found, seconds))
    return found, asyncio.run(_signal(adapter.name, found.mac, seconds))


async def _signal(adapter: str, mac: Mac, seconds: float) -> Finding | None:
    """Signal again and again; why it does not show itself, or None."""
    for _ in range(max(1, round(seconds / _FLASH))):
        reason = await signal_once(adapter, mac)
        if reason is not None:
            return reason
        await asyncio.sleep(_FLASH)
    return None


async def signal_once(adapter: str, mac: Mac) -> Finding | None:
    """Have a device show itself for some seconds; why it does not, or None."""
    answer = await set_by_dcp(adapter, mac, [dcp.encode_signal_block()])
    if answer.errors is None:
        return say.NO_ANSWER_TO_SIGNAL()
    error = answer.errors.get(dcp.SIGNAL, 0)
    return say.NO_SHOW(because=dcp.error_words(error)) if error else None
