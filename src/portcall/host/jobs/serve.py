"""Serving addresses on one adapter."""

from __future__ import annotations

import asyncio
from collections.abc import Callable
from contextlib import ExitStack, closing

from portcall.core.adapter import Adapter
from portcall.core.assign.server import AddressServer, Event
from portcall.core.pacer import Pacer
from portcall.core.plan import Plan
from portcall.core.wire import bootp
from portcall.host.datagrams import Datagrams
from portcall.host.link import Link
from portcall.host.runner import Runner

_ANSWER_PACE = 1000.0
"""Answers a second. They are few and each was asked for; a sweep's pace would keep a plant that
powers up waiting."""


async def serve(
    adapter: Adapter,
    plan: Plan,
    report: Callable[[Event], None],
    stop: asyncio.Event,
) -> None:
    """Answer planned MACs until ``stop`` is set.

    The UDP port is held while the server's own frames do the talking: it tells that another
    program has it, and keeps the kernel from answering requests with "port unreachable".
    """
    assert adapter.mac is not None
    runner = Runner(Pacer(_ANSWER_PACE))
    with ExitStack() as stack:
        stack.enter_context(closing(Datagrams(adapter.name, bootp.SERVER_PORT)))
        link = stack.enter_context(closing(Link(adapter.name)))
        stack.callback(runner.drop, link)
        runner.start(AddressServer(adapter.mac, adapter.interfaces, plan), link, report)
        await stop.wait()
