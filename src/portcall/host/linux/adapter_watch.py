"""Watching the adapters: the kernel says when something changes."""

from __future__ import annotations

import asyncio
import struct
from collections.abc import Callable
from dataclasses import replace

from portcall.core.adapters.adapter import Adapter
from portcall.core.adapters.adapter_watch import AdapterChange, AdapterWatch
from portcall.host.linux.adapters import link_state, read_adapters
from portcall.host.linux.rtnetlink import (
    ADDRESS_EVENTS,
    LINK_EVENTS,
    Message,
    MessageKind,
    Netlink,
)


async def watch_adapters(report: Callable[[AdapterChange], None], stop: asyncio.Event) -> None:
    """Report every change of an adapter until ``stop`` is set."""
    loop = asyncio.get_running_loop()
    happened = asyncio.Event()
    with Netlink(LINK_EVENTS | ADDRESS_EVENTS) as events:
        known = read_adapters()
        adapters = AdapterWatch(known)
        loop.add_reader(events.fileno(), happened.set)
        stopped = asyncio.ensure_future(stop.wait())
        try:
            while not stop.is_set():
                waiting = asyncio.ensure_future(happened.wait())
                await asyncio.wait((waiting, stopped), return_when=asyncio.FIRST_COMPLETED)
                waiting.cancel()
                happened.clear()
                for message in events.events():
                    # A link that went and came back between two looks would not be seen by
                    # looking; the kernel's messages have each state that it was in.
                    known = _as_of(message, known)
                    for change in adapters.look(known, loop.time()):
                        report(change)
                known = read_adapters()
                for change in adapters.look(known, loop.time()):
                    report(change)
        finally:
            stopped.cancel()
            loop.remove_reader(events.fileno())


def _as_of(message: Message, known: tuple[Adapter, ...]) -> tuple[Adapter, ...]:
    if message.kind is not MessageKind.NEW_LINK:
        return known
    index = struct.unpack_from("=i", message.fixed, 4)[0]
    up, link = link_state(message)
    return tuple(
        replace(adapter, up=up, link=link) if adapter.index == index else adapter
        for adapter in known
    )
