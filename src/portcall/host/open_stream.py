"""An open TCP connection."""

from __future__ import annotations

import socket
from collections.abc import Iterator
from contextlib import suppress
from ipaddress import IPv4Address
from time import monotonic

from portcall.core.talk.conversation import StreamBytes
from portcall.host.medium import MOST_AT_ONCE

_PIECE = 65536
_MOST_UNREAD = 16


def _peer(connected: socket.socket) -> IPv4Address | None:
    """The other end of a connection; None when it is none any more."""
    with suppress(OSError, ValueError, IndexError):
        return IPv4Address(connected.getpeername()[0])
    return None


class OpenStream:
    """An open connection, as far as it is the same on each operating system."""

    def __init__(self, connected: socket.socket) -> None:
        self.connected = connected
        self.peer = _peer(connected)
        self.closed_by_peer = False

    def fileno(self) -> int:
        """The socket's descriptor."""
        return self.connected.fileno()

    def receive(self) -> Iterator[tuple[StreamBytes, float]]:
        """Bytes that have arrived; empty ones once, when the other side closed or reset."""
        for _ in range(MOST_AT_ONCE):
            try:
                data = self._take()
            except BlockingIOError:
                return
            except OSError:
                data = b""
            self.closed_by_peer = not data
            yield StreamBytes(data), monotonic()
            if not data:
                return

    def _take(self) -> bytes:
        return self.connected.recv(_PIECE)

    def send(self, packet: StreamBytes) -> None:
        """Send bytes. Raises OSError when the other side takes no more: requests are small."""
        if self.connected.send(packet.data) < len(packet.data):
            raise OSError("the device does not take what is sent")

    def close(self) -> None:
        """Close the connection properly: old devices have few sockets.

        What was not read would make the system reset the connection instead of ending it.
        """
        with suppress(OSError):
            for _ in range(_MOST_UNREAD):
                if not self.connected.recv(_PIECE):
                    break
        self.connected.close()
