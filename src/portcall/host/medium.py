"""The thin waist: all that the runner needs of a socket. No other code touches one."""

from __future__ import annotations

import socket
import struct
import time
from collections.abc import Iterator
from typing import Protocol, TypeVar

P = TypeVar("P")

MOST_AT_ONCE = 256
"""Packets taken from a socket before others get their turn."""

SO_TIMESTAMPNS = 35
SO_BINDTODEVICE = 25


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


def bind_to_adapter(sock: socket.socket, adapter: str) -> None:
    """Send and receive on this adapter only, whatever the routing table says."""
    sock.setsockopt(socket.SOL_SOCKET, SO_BINDTODEVICE, adapter.encode())


def stamp_receives(sock: socket.socket) -> None:
    """Have the kernel note when each packet arrived."""
    sock.setsockopt(socket.SOL_SOCKET, SO_TIMESTAMPNS, 1)


_STAMP = struct.Struct("qq")


def received_at(ancillary: list[tuple[int, int, bytes]]) -> float:
    """When a packet arrived, on the monotonic clock that conversations live by.

    The kernel stamps with the wall clock, which may be set meanwhile: a time that cannot be is not
    believed.
    """
    now = time.monotonic()
    for level, kind, data in ancillary:
        if kind == SO_TIMESTAMPNS and level == socket.SOL_SOCKET and len(data) >= _STAMP.size:
            seconds, nanoseconds = _STAMP.unpack_from(data)
            stamped: float = seconds + nanoseconds * 1e-9 - clock_skew()
            return stamped if now - 1.0 < stamped < now else now
    return now


def clock_skew() -> float:
    """How far the wall clock is ahead of the monotonic clock, in seconds."""
    return time.time() - time.monotonic()
