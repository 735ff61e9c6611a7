"""TCP connections from one adapter."""

from __future__ import annotations

import asyncio
import socket
from collections.abc import Iterator
from contextlib import suppress
from ipaddress import IPv4Address
from time import monotonic

from portcall.core.talk.conversation import Endpoint, StreamBytes
from portcall.host.medium import MOST_AT_ONCE
from portcall.host.vantage import Vantage
from portcall.host.windows.sockets import bind_to_adapter

_PIECE = 65536
_MOST_UNREAD = 16


def _peer(connected: socket.socket) -> IPv4Address | None:
    """The other end of a connection; None when it is none any more."""
    with suppress(OSError, ValueError, IndexError):
        return IPv4Address(connected.getpeername()[0])
    return None


class Stream:
    """An open connection; ``host.doors`` makes them."""

    def __init__(self, connected: socket.socket) -> None:
        self._socket = connected
        self.peer = _peer(connected)
        self.closed_by_peer = False

    def fileno(self) -> int:
        """The socket's descriptor."""
        return self._socket.fileno()

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
        return self._socket.recv(_PIECE)

    def send(self, packet: StreamBytes) -> None:
        """Send bytes. Raises OSError when the other side takes no more: requests are small."""
        if self._socket.send(packet.data) < len(packet.data):
            raise OSError("the device does not take what is sent")

    @property
    def longest_segment(self) -> int:
        """Raises OSError: Windows does not tell what both sides agreed on."""
        raise OSError("the longest segment is not told")

    @property
    def unacknowledged(self) -> int:
        """Raises OSError: Windows does not tell what is not acknowledged yet."""
        raise OSError("what is not acknowledged is not told")

    def close(self) -> None:
        """Close the connection properly: old devices have few sockets.

        What was not read would make the system reset the connection instead of ending it.
        """
        with suppress(OSError):
            for _ in range(_MOST_UNREAD):
                if not self._socket.recv(_PIECE):
                    break
        self._socket.close()


async def connect(vantage: Vantage, door: Endpoint, wait: float) -> Stream:
    """Connect to one port of one device. Raises OSError, TimeoutError after ``wait`` seconds."""
    sock = open_socket(vantage, door.address)
    try:
        async with asyncio.timeout(wait):
            await asyncio.get_running_loop().sock_connect(sock, (str(door.address), door.port))
    except BaseException:
        sock.close()
        raise
    return Stream(sock)


def open_socket(vantage: Vantage, target: IPv4Address) -> socket.socket:
    """A socket that connects from a vantage, not yet connected. Raises OSError, NotPossibleHere."""
    sock = socket.socket(socket.AF_INET, socket.SOCK_STREAM)
    try:
        sock.setblocking(False)
        if vantage.interface is not None:
            sock.bind((str(vantage.interface.ip), 0))
        else:
            bind_to_adapter(sock, vantage.adapter, target)
    except BaseException:
        sock.close()
        raise
    return sock
