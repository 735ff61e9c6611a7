"""Running a job: how a person ends it, and what happens when nobody reads what it prints."""

from __future__ import annotations

import asyncio
import errno
import os
import sys
from collections.abc import Callable, Coroutine
from typing import Any, TypeVar

from portcall.system.terminals import interrupts, watched_pipe

T = TypeVar("T")


def run(work: Coroutine[Any, Any, T]) -> T:
    """Run a job to its end; Ctrl-C cancels it.

    Raises BrokenPipeError as soon as the program that reads the output has gone.
    """
    return asyncio.run(_while_read(work))


def run_until_interrupted(
    job: Callable[[asyncio.Event], Coroutine[Any, Any, T]],
) -> tuple[T, bool]:
    """Run a job that ends early, in its own way, when the event that it is given is set.

    Gives its result, and whether Ctrl-C had set the event, or a signal that counts as Ctrl-C.
    """

    async def work() -> tuple[T, bool]:
        interrupt = asyncio.Event()
        with interrupts(interrupt.set):
            result = await job(interrupt)
        return result, interrupt.is_set()

    return run(work())


async def _while_read(work: Coroutine[Any, Any, T]) -> T:
    """Await a job; end it when the pipe that standard output goes into has no reader any more."""
    descriptor = watched_pipe(sys.stdout)
    if descriptor is None:
        return await work
    task = asyncio.ensure_future(work)
    loop = asyncio.get_running_loop()
    has_left = False

    def left() -> None:
        nonlocal has_left
        has_left = True
        loop.remove_reader(descriptor)
        task.cancel()

    loop.add_reader(descriptor, left)
    try:
        return await task
    except asyncio.CancelledError:
        if has_left:
            raise BrokenPipeError(errno.EPIPE, os.strerror(errno.EPIPE)) from None
        raise
    finally:
        loop.remove_reader(descriptor)
