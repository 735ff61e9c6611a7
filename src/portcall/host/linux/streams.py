"""TCP connections from one adapter."""

from __future__ import annotations

import asyncio
import fcntl
import socket
import termios

from portcall.core.talk.conversation import Endpoint
from portcall.host.linux.sockets import bind_to_adapter
from portcall.host.open_stream import OpenStream
from portcall.host.vantage import Vantage


class Stream(OpenStream):
    """An open connection; ``host.doors`` makes them."""

    @property
    def longest_segment(self) -> int:
        """How many octets a segment to the other side has at most, as both agreed."""
        return self.connected.getsockopt(socket.IPPROTO_TCP, socket.TCP_MAXSEG)

    @property
    def unacknowledged(self) -> int:
        """Octets that were sent, and not acknowledged yet (tcp(7), SIOCOUTQ)."""
        waiting = fcntl.ioctl(self.connected, termios.TIOCOUTQ, bytes(4))
        return int.from_bytes(waiting, "little")


async def connect(vantage: Vantage, door: Endpoint, wait: float) -> Stream:
    """Connect to one port of one device. Raises OSError, TimeoutError after ``wait`` seconds."""
    sock = vantage.call(lambda: open_socket(vantage))
    try:
        async with asyncio.timeout(wait):
            await asyncio.get_running_loop().sock_connect(sock, (str(door.address), door.port))
    except BaseException:
        sock.close()
        raise
    return Stream(sock)


def open_socket(vantage: Vantage) -> socket.socket:
    """A socket that connects from a vantage, not yet connected. Raises OSError."""
    sock = socket.socket(socket.AF_INET, socket.SOCK_STREAM | socket.SOCK_NONBLOCK)
    try:
        bind_to_adapter(sock, vantage.adapter)
        if vantage.interface is not None:
            sock.bind((str(vantage.interface.ip), 0))
    except BaseException:
        sock.close()
        raise
    return sock
