"""The changes of adapters, and the state of one adapter's cable."""

from __future__ import annotations

import asyncio
import sys
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from dataclasses import dataclass

from portcall.core.adapters.adapter_watch import AdapterChange, ChangeKind
from portcall.host.adapters import read_adapters

if sys.platform == "win32":
    from portcall.host.windows.adapter_watch import watch_adapters
else:
    from portcall.host.linux.adapter_watch import watch_adapters

__all__ = ["Cable", "cable_of", "watch_adapters"]


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
