"""Watching this computer's adapters: the kernel says when something changes."""

from __future__ import annotations

import asyncio
from collections.abc import Callable

from portcall.core.adapters.adapter_watch import AdapterChange
from portcall.host.adapter_watch import watch_adapters


async def watch_for(
    report: Callable[[AdapterChange], None], seconds: float | None, stop: asyncio.Event
) -> None:
    """Report every change for some seconds, or until ``stop`` is set."""
    over = asyncio.Event()
    stopping = asyncio.ensure_future(stop.wait())
    stopping.add_done_callback(lambda _: over.set())
    if seconds is not None:
        asyncio.get_running_loop().call_later(seconds, over.set)
    try:
        await watch_adapters(report, over)
    finally:
        stopping.cancel()
