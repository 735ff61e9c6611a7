"""Terminals and pipes of Linux."""

from __future__ import annotations

import os
import signal
import stat
import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from typing import TextIO

assert sys.platform != "win32"

_MOST_KEYS = 4096


def press_ctrl_c() -> None:
    """Have this program interrupted as by Ctrl-C, from any thread."""
    os.kill(os.getpid(), signal.SIGINT)


def begin() -> None:
    """Be ready for all the rest, once, when the program starts: nothing is to be done here."""


@contextmanager
def interrupts(told: Callable[[], None]) -> Iterator[None]:
    """While the block runs in an event loop, Ctrl-C tells, and interrupts nothing."""
    import asyncio

    loop = asyncio.get_running_loop()
    with suppress(NotImplementedError):
        loop.add_signal_handler(signal.SIGINT, told)
    try:
        yield
    finally:
        loop.remove_signal_handler(signal.SIGINT)


def watched_pipe(stream: TextIO) -> int | None:
    """The descriptor of a stream when that is a pipe: an event loop sees when its reader goes.

    The writing end of a pipe becomes "readable" when its last reader closes: poll(2), POLLERR.
    """
    try:
        descriptor = stream.fileno()
        return descriptor if stat.S_ISFIFO(os.fstat(descriptor).st_mode) else None
    except (OSError, ValueError):
        return None


@contextmanager
def key_presses(told: Callable[[str], None]) -> Iterator[None]:
    """While the block runs in an event loop, tell each key as it comes; none is shown.

    Ctrl-C stays a signal.
    """
    import asyncio
    import termios
    import tty

    loop, keys = asyncio.get_running_loop(), sys.stdin.fileno()

    def read() -> None:
        pressed = os.read(keys, _MOST_KEYS).decode(errors="replace")
        if not pressed:
            loop.remove_reader(keys)
            return
        told(pressed)

    before = termios.tcgetattr(keys)
    tty.setcbreak(keys)
    loop.add_reader(keys, read)
    try:
        yield
    finally:
        loop.remove_reader(keys)
        termios.tcsetattr(keys, termios.TCSADRAIN, before)
