"""Tasks that end together."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator, Coroutine
from contextlib import asynccontextmanager
from typing import Any


@asynccontextmanager
async def together() -> AsyncIterator[asyncio.TaskGroup]:
    """A task group that raises the first exception in it as that exception, not in a group."""
    try:
        async with asyncio.TaskGroup() as tasks:
            yield tasks
    except ExceptionGroup as group:
        raise _first_of(group) from None


def _first_of(group: BaseException) -> BaseException:
    while isinstance(group, BaseExceptionGroup):
        group = group.exceptions[0]
    return group


def begin(tasks: asyncio.TaskGroup, work: Coroutine[Any, Any, None]) -> None:
    """Begin a task in a group; not in one that ends already, which takes none."""
    try:
        tasks.create_task(work)
    except RuntimeError:
        work.close()


async def end(task: asyncio.Task[Any]) -> None:
    """Cancel a task and wait until it has cleaned up; nothing happens to one that is done."""
    if not task.done():
        task.cancel()
        await asyncio.wait((task,))
