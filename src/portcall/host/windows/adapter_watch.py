"""Watching the adapters by looking at them again and again."""

from __future__ import annotations

import asyncio
from collections.abc import Callable
from contextlib import suppress

from portcall.core.adapters.adapter_watch import AdapterChange, AdapterWatch
from portcall.host.windows.adapters import read_adapters

_LOOK_EVERY = 0.2
"""Seconds: a link that goes takes longer to come back, since both ends agree on a speed first."""


async def watch_adapters(report: Callable[[AdapterChange], None], stop: asyncio.Event) -> None:
    """Report every change of an adapter until ``stop`` is set."""
    loop = asyncio.get_running_loop()
    adapters = AdapterWatch(read_adapters())
    while not stop.is_set():
        with suppress(TimeoutError):
            await asyncio.wait_for(stop.wait(), _LOOK_EVERY)
        for change in adapters.look(read_adapters(), loop.time()):
            report(change)
