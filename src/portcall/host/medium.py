"""The thin waist: what the runner needs of a socket, and nothing else touches one."""

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
        """What is there now, at most MOST_AT_ONCE, each with its time on the monotonic clock."""
        ...

    def send(self, packet: P) -> None:
        """Let a packet leave. Raises OSError when it cannot, BlockingIOError when not yet."""
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


def received_at(ancillary: list[tuple[int, int, bytes]]) -> float:
    """When a packet arrived, on the monotonic clock that conversations live by.

    The kernel stamps with the wall clock; what is used of it is how long ago it was, so that a
    stepped wall clock can shift a time by its step only within the moment between stamp and read.
    """
    now = time.monotonic()
    for level, kind, data in ancillary:
        if level == socket.SOL_SOCKET and kind == SO_TIMESTAMPNS and len(data) >= 16:
            seconds, nanoseconds = struct.unpack("qq", data[:16])
            age: float = time.time() - (seconds + nanoseconds * 1e-9)
            return now - min(max(age, 0.0), 1.0)
    return now
