"""Running a job: how a person ends it, and what happens when nobody reads what it prints."""

from __future__ import annotations

import asyncio
import errno
import os
import signal
import stat
import sys
from collections.abc import Callable, Coroutine, Sequence
from contextlib import suppress
from types import FrameType
from typing import Any, TypeVar

T = TypeVar("T")

EVERY_WAY = (signal.SIGINT, signal.SIGTERM, signal.SIGHUP)
"""The signals of Ctrl-C, of a program that is told to end, and of a terminal that was closed."""


def run(work: Coroutine[Any, Any, T]) -> T:
    """Run a job to its end; Ctrl-C cancels it.

    Raises BrokenPipeError as soon as the program that reads the output has gone.
    """
    return asyncio.run(_while_read(work))


def run_until_interrupted(
    job: Callable[[asyncio.Event], Coroutine[Any, Any, T]],
    by: Sequence[signal.Signals] = (signal.SIGINT,),
) -> tuple[T, bool]:
    """Run a job that ends early, in its own way, when the event that it is given is set.

    Gives its result, and whether one of these signals had set the event.
    """

    async def work() -> tuple[T, bool]:
        interrupt = asyncio.Event()
        loop = asyncio.get_running_loop()
        for number in by:
            with suppress(NotImplementedError):
                loop.add_signal_handler(number, interrupt.set)
        try:
            result = await job(interrupt)
        finally:
            for number in by:
                loop.remove_signal_handler(number)
        return result, interrupt.is_set()

    return run(work())


def end_like_ctrl_c() -> None:
    """From now on, every signal that can be caught ends this process as Ctrl-C does."""
    for number in EVERY_WAY[1:]:
        signal.signal(number, _interrupt)


def _interrupt(number: int, frame: FrameType | None) -> None:
    raise KeyboardInterrupt


async def _while_read(work: Coroutine[Any, Any, T]) -> T:
    """Await a job; end it when the pipe that standard output goes into has no reader any more."""
    descriptor = _pipe()
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

    # The writing end of a pipe becomes "readable" when its last reader closes: poll(2), POLLERR.
    loop.add_reader(descriptor, left)
    try:
        return await task
    except asyncio.CancelledError:
        if has_left:
            raise BrokenPipeError(errno.EPIPE, os.strerror(errno.EPIPE)) from None
        raise
    finally:
        loop.remove_reader(descriptor)


def _pipe() -> int | None:
    """The descriptor of standard output when that is a pipe."""
    try:
        descriptor = sys.stdout.fileno()
        return descriptor if stat.S_ISFIFO(os.fstat(descriptor).st_mode) else None
    except (OSError, ValueError):
        return None
