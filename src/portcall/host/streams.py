"""TCP connections from one adapter."""

from __future__ import annotations

import asyncio
import errno
import os
import socket
from collections.abc import Iterator
from contextlib import suppress
from functools import partial
from time import monotonic

from portcall.core.conversation import Endpoint, StreamBytes
from portcall.host.medium import MOST_AT_ONCE, bind_to_adapter
from portcall.host.vantage import Vantage

CONNECT_WAIT = 0.9
"""Seconds. Shorter than the kernel's first repeat of a SYN (RFC 6298 §2: one second), so that none
leaves that the pacer has not counted; who asks tries again."""

_PIECE = 65536
_MOST_UNREAD = 16


class Stream:
    """An open connection; ``connect`` makes one."""

    def __init__(self, connected: socket.socket) -> None:
        self._socket = connected
        self.closed_by_peer = False

    @classmethod
    async def connect(
        cls, vantage: Vantage, peer: Endpoint, timeout: float = CONNECT_WAIT
    ) -> Stream:
        """Connect from here. Raises OSError or TimeoutError as connecting does."""
        sock: socket.socket = vantage.call(partial(_open, vantage))
        try:
            await _connected(sock, peer, timeout)
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

    def close(self) -> None:
        """Close the connection properly: old devices have few sockets.

        What was not read would make the kernel reset the connection instead of ending it.
        """
        with suppress(OSError):
            for _ in range(_MOST_UNREAD):
                if not self._socket.recv(_PIECE):
                    break
        self._socket.close()


async def _connected(sock: socket.socket, peer: Endpoint, timeout: float) -> None:
    """Connect, leaner than asyncio does: a look at a plant opens thousands of doors."""
    code = sock.connect_ex((str(peer.address), peer.port))
    if code == errno.EINPROGRESS:
        loop = asyncio.get_running_loop()
        settled: asyncio.Future[bool] = loop.create_future()

        def settle(in_time: bool) -> None:
            if not settled.done():
                settled.set_result(in_time)

        loop.add_writer(sock.fileno(), settle, True)
        alarm = loop.call_later(timeout, settle, False)
        try:
            if not await settled:
                raise TimeoutError
        finally:
            alarm.cancel()
            loop.remove_writer(sock.fileno())
        code = sock.getsockopt(socket.SOL_SOCKET, socket.SO_ERROR)
    if code:
        raise OSError(code, os.strerror(code))


def _open(vantage: Vantage) -> socket.socket:
    sock = socket.socket(socket.AF_INET, socket.SOCK_STREAM)
    try:
        sock.setblocking(False)
        bind_to_adapter(sock, vantage.adapter)
        if vantage.interface is not None:
            sock.bind((str(vantage.interface.ip), 0))
    except BaseException:
        sock.close()
        raise
    return sock
