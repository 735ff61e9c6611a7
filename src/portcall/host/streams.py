"""TCP connections from one adapter."""

from __future__ import annotations

import asyncio
import socket
from collections.abc import Iterator
from time import monotonic

from portcall.core.conversation import Endpoint, StreamBytes
from portcall.host.medium import MOST_AT_ONCE, bind_to_adapter

_PIECE = 65536


class Stream:
    """An open connection; ``connect`` makes one."""

    def __init__(self, connected: socket.socket) -> None:
        self._socket = connected

    @classmethod
    async def connect(cls, adapter: str, peer: Endpoint, timeout: float) -> Stream:
        """Connect over this adapter. Raises OSError or TimeoutError as connecting does."""
        sock = socket.socket(socket.AF_INET, socket.SOCK_STREAM)
        try:
            sock.setblocking(False)
            bind_to_adapter(sock, adapter)
            async with asyncio.timeout(timeout):
                loop = asyncio.get_running_loop()
                await loop.sock_connect(sock, (str(peer.address), peer.port))
        except BaseException:
            sock.close()
            raise
        return cls(sock)

    def fileno(self) -> int:
        """The socket's descriptor."""
        return self._socket.fileno()

    def receive(self) -> Iterator[tuple[StreamBytes, float]]:
        """Bytes that have arrived; empty ones once, when the other side closed or reset."""
        for _ in range(MOST_AT_ONCE):
            try:
                data = self._socket.recv(_PIECE)
            except BlockingIOError:
                return
            except OSError:
                data = b""
            yield StreamBytes(data), monotonic()
            if not data:
                return

    def send(self, packet: StreamBytes) -> None:
        """Send bytes. Raises OSError when the other side takes no more: requests are small."""
        if self._socket.send(packet.data) < len(packet.data):
            raise OSError("the device does not take what is sent")

    def close(self) -> None:
        """Close the connection properly: old devices have few sockets."""
        self._socket.close()
