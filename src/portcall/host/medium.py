"""The thin waist: all that the runner needs of a socket. No other code touches one."""

from __future__ import annotations

import time
from collections.abc import Iterator
from typing import Protocol, TypeVar

from portcall.core.trouble import NotPossibleHere

P = TypeVar("P")

MOST_AT_ONCE = 256
"""Packets taken from a socket before others get their turn."""


class NoPings(NotPossibleHere):
    """This user may send no echoes on this computer."""


class Medium(Protocol[P]):
    """A non-blocking socket that carries packets of one type over one adapter."""

    def fileno(self) -> int:
        """The descriptor that becomes readable."""
        ...

    def receive(self) -> Iterator[tuple[P, float]]:
        """The packets that are there now, at most MOST_AT_ONCE, each with its monotonic time."""
        ...

    def send(self, packet: P) -> float | None:
        """Let a packet leave. Raises OSError when it cannot, BlockingIOError when not yet.

        Gives when it left, on the monotonic clock, where that is to be told exactly: what Python
        does before the system call, on a computer that has just woken up, takes longer than many an
        echo is on its way.
        """
        ...

    def close(self) -> None:
        """Give the socket back."""
        ...


def clock_skew() -> float:
    """How far the wall clock is ahead of the monotonic clock, in seconds."""
    return time.time() - time.monotonic()
