"""Consoles of Windows."""

from __future__ import annotations

import ctypes
import signal
import sys
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from ctypes import wintypes
from typing import TextIO

assert sys.platform == "win32"

_BREAK, _CLOSED = 1, (2, 5, 6)
"""Ctrl-Break is pressed; the console's window is closed, the person logs off, the computer is shut
down."""

_TIME_TO_END = 4.5
"""Seconds that Windows gives a program whose window was closed, less a little (HandlerRoutine)."""

_SO_OFTEN = 0.1
"""Seconds between two looks for a key, or for Ctrl-C: neither wakes an event loop of sockets."""


def _ended(event: int) -> bool:
    """Have the program end for Ctrl-Break, and when its window is closed; then wait while it does.

    It is told by SIGBREAK, as the C library would tell it: that library lets it be ended at once.
    """
    if event != _BREAK and event not in _CLOSED:
        return False
    signal.raise_signal(signal.SIGBREAK)
    if event in _CLOSED:
        time.sleep(_TIME_TO_END)
    return True


_HANDLER = ctypes.WINFUNCTYPE(wintypes.BOOL, wintypes.DWORD)(_ended)
"""Held here: the system calls it for as long as the program runs."""


def press_ctrl_c() -> None:
    """Have this program interrupted as by Ctrl-C, from any thread."""
    signal.raise_signal(signal.SIGINT)


def begin() -> None:
    """Be ready for all the rest, once, when the program starts."""
    import asyncio

    # The other kind of event loop waits for no descriptor (add_reader).
    asyncio.set_event_loop_policy(asyncio.WindowsSelectorEventLoopPolicy())
    ctypes.WinDLL("kernel32").SetConsoleCtrlHandler(_HANDLER, True)


@contextmanager
def interrupts(told: Callable[[], None]) -> Iterator[None]:
    """While the block runs in an event loop, Ctrl-C tells, and interrupts nothing."""
    import asyncio

    loop = asyncio.get_running_loop()

    async def look() -> None:
        while True:
            await asyncio.sleep(_SO_OFTEN)

    before = signal.signal(
        signal.SIGINT, lambda number, frame: loop.call_soon_threadsafe(told) and None
    )
    looking = asyncio.ensure_future(look())
    try:
        yield
    finally:
        looking.cancel()
        signal.signal(signal.SIGINT, before)


def watched_pipe(stream: TextIO) -> int | None:
    """None: an event loop of sockets sees no pipe. That its reader is gone is seen by writing."""
    return None


@contextmanager
def key_presses(told: Callable[[str], None]) -> Iterator[None]:
    """While the block runs in an event loop, tell each key as it comes; none is shown."""
    import asyncio
    import msvcrt

    async def look() -> None:
        while True:
            while msvcrt.kbhit():
                told(msvcrt.getwch())
            await asyncio.sleep(_SO_OFTEN)

    looking = asyncio.ensure_future(look())
    try:
        yield
    finally:
        looking.cancel()
