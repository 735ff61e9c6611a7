"""Watching the adapters: the kernel says when something changes."""

from __future__ import annotations

import asyncio
import struct
from collections.abc import AsyncIterator, Callable
from contextlib import asynccontextmanager
from dataclasses import dataclass, replace

from portcall.core.adapters.adapter import Adapter
from portcall.core.adapters.adapter_watch import AdapterChange, AdapterWatch, ChangeKind
from portcall.host.adapters import link_state, read_adapters
from portcall.host.rtnetlink import ADDRESS_EVENTS, LINK_EVENTS, Message, MessageKind, Netlink


@dataclass(slots=True)
class Cable:
    """Whether an adapter has a link now, and how often it has lost it since watching began.

    ``is_there`` is False while the computer has no adapter of this name; ``returns`` counts how
    often one of this name came back, which is another adapter to sockets that were open before.
    """

    has_link: bool
    losses: int = 0
    is_there: bool = True
    returns: int = 0


@asynccontextmanager
async def cable_of(name: str) -> AsyncIterator[Cable]:
    """While the block runs, know the state of an adapter's cable.

    The kernel's events tell it, so that a link that was lost and is back already counts, too.
    """
    cable = Cable(any(adapter.link for adapter in read_adapters() if adapter.name == name))

    index = next((adapter.index for adapter in read_adapters() if adapter.name == name), None)

    def told(change: AdapterChange) -> None:
        nonlocal index
        adapter, kind = change.adapter, change.kind
        if kind in (ChangeKind.APPEARED, ChangeKind.RENAMED) and adapter.name == name:
            cable.returns += adapter.index != index
            index, cable.is_there, cable.has_link = adapter.index, True, adapter.link
        elif adapter.index != index:
            return
        elif kind in (ChangeKind.LINK_LOST, ChangeKind.VANISHED, ChangeKind.RENAMED):
            cable.losses += cable.has_link
            cable.has_link = False
            cable.is_there &= kind is ChangeKind.LINK_LOST
        elif kind is ChangeKind.LINK_BACK:
            cable.has_link = cable.is_there and adapter.link

    stop = asyncio.Event()
    watching = asyncio.ensure_future(watch_adapters(told, stop))
    try:
        yield cable
    finally:
        stop.set()
        await watching


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
