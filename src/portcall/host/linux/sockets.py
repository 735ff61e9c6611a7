"""What every socket here is told: its adapter, and to note when a packet came."""

from __future__ import annotations

import socket
import struct
import time

from portcall.host.medium import clock_skew

SO_TIMESTAMPNS = 35
SO_BINDTODEVICE = 25


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
