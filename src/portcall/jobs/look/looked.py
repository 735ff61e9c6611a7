"""A whole look, from its beginning to its end, an early end or a pulled cable."""

from __future__ import annotations

import asyncio
from collections.abc import Callable
from dataclasses import dataclass

from portcall.core.adapters.adapter import Adapter
from portcall.core.find.devices import Gathering
from portcall.core.find.outlook import Outlook
from portcall.core.trouble import NotPossibleHere
from portcall.host.adapter_watch import Cable, cable_of
from portcall.jobs.look.findings import Orders
from portcall.jobs.look.look import Look
from portcall.jobs.telling import Tell, nobody
from portcall.jobs.together import end

_EARLY = 1.0
_EARLY_REFRESH = 0.03
"""Who waits for the first device sees it at once."""

_REFRESH = 0.1
"""Seconds between two looks at how far it has come."""


@dataclass(frozen=True, slots=True)
class LostLink:
    """The adapter's link was lost during a look."""

    adapter: str
    cable: Cable

    def __str__(self) -> str:
        name, losses = self.adapter, self.cable.losses
        if not self.cable.is_there:
            return f"{name} is gone from this computer: what was not heard until then may be there"
        if not self.cable.has_link:
            return f"{name} lost its link meanwhile: what was not heard until then may be there"
        often = "once" if losses == 1 else f"{losses} times"
        return f"{name} lost its link {often} meanwhile, and has it again: some may not be heard"


_MANY = 200.0
"""Packets of other programs a second that are worth a word."""


@dataclass(frozen=True, slots=True)
class BusyAdapter:
    """Other programs sent much by the adapter during a look."""

    adapter: str
    a_second: float

    def __str__(self) -> str:
        return (
            f"other programs of this computer sent {self.a_second:.0f} packets a second by "
            f"{self.adapter} meanwhile: what was not heard may have been drowned by them"
        )


@dataclass(frozen=True, slots=True)
class Looked:
    """A look that is over, whether it was stopped, and how it was with the cable meanwhile."""

    look: Look
    interrupted: bool
    cable: Cable

    def to_its_end(self) -> Look:
        """The finished look; raises NotPossibleHere when the cable is out.

        What is judged by such a look, a missing device, might have been heard with the cable in.
        """
        if not self.cable.is_there:
            raise NotPossibleHere("plug the adapter in again, and type this again")
        if not self.cable.has_link:
            raise NotPossibleHere("check the cable, and type this again")
        return self.look


def _never(seconds: float) -> bool:
    return False


async def look(
    adapter: Adapter,
    orders: Orders,
    gathering: Gathering,
    *,
    stop: asyncio.Event | None = None,
    enough: Callable[[float], bool] = _never,
    progress: Callable[[Outlook], None] = nobody,
    tell: Tell = nobody,
) -> Looked:
    """Look, and gather what is seen; tells when the link is lost meanwhile.

    ``stop`` ends the look before its time, and so may ``enough``: it is asked now and then, with
    the seconds since the beginning. ``progress`` is told as often how far the look has come.
    Raises NotPossibleHere.
    """
    outlook = Outlook()
    looking = Look(adapter, orders, gathering.add, outlook)
    loop = asyncio.get_running_loop()
    began = loop.time()
    interrupted = False
    async with cable_of(adapter.name) as cable:
        task = asyncio.ensure_future(looking.run())
        try:
            while not task.done():
                outlook.tick(loop.time())
                progress(outlook)
                interrupted = stop is not None and stop.is_set()
                if interrupted or enough(loop.time() - began):
                    break
                is_early = loop.time() - began < _EARLY
                await asyncio.wait((task,), timeout=_EARLY_REFRESH if is_early else _REFRESH)
        finally:
            await end(task)
    if cable.losses:
        tell(LostLink(adapter.name, cable))
    a_second = looking.foreign / max(loop.time() - began, 1.0)
    if a_second > _MANY:
        tell(BusyAdapter(adapter.name, a_second))
    if not task.cancelled():
        try:
            task.result()
        except (NotPossibleHere, OSError):
            # A failure on an adapter that is gone is expected.
            if cable.is_there:
                raise
    return Looked(looking, interrupted, cable)
