"""Following one device on an adapter until it is where it should be."""

from __future__ import annotations

import asyncio
from collections.abc import Callable
from typing import Any, TypeVar

from portcall.core.talk.conversation import Conversation, Frame
from portcall.core.talk.pacer import Pacer
from portcall.host.address_link import AddressLink
from portcall.host.runner import Runner

F = TypeVar("F")

_LOOK = 0.1
"""Seconds between two looks whether it is over."""


async def follow(
    adapter: str,
    device: Conversation[Frame, F],
    over: Callable[[float], bool],
    wait: float | None,
    tell: Callable[[F], Any] = lambda fact: None,
) -> bool:
    """Follow a device until ``over`` says so; False when ``wait`` seconds were not enough.

    ``over`` is given the time, on the clock of what ``tell`` is told. Raises NotPossibleHere.
    """
    loop = asyncio.get_running_loop()
    deadline = None if wait is None else loop.time() + wait
    runner = Runner(Pacer())
    with runner.using(AddressLink(adapter)) as link:
        ended = runner.start(device, link, tell)
        while not over(loop.time()):
            if ended.is_set():
                ended.check()
            if deadline is not None and loop.time() >= deadline:
                return False
            await asyncio.sleep(_LOOK)
    return True
