"""TCP connections from one adapter."""

from __future__ import annotations

import asyncio
import socket
from ipaddress import IPv4Address

from portcall.core.talk.conversation import Endpoint
from portcall.host.open_stream import OpenStream
from portcall.host.vantage import Vantage
from portcall.host.windows.sockets import bind_to_adapter


class Stream(OpenStream):
    """An open connection; ``host.doors`` makes them."""

    @property
    def longest_segment(self) -> int:
        """Raises OSError: Windows does not tell what both sides agreed on."""
        raise OSError("the longest segment is not told")

    @property
    def unacknowledged(self) -> int:
        """Raises OSError: Windows does not tell what is not acknowledged yet."""
        raise OSError("what is not acknowledged is not told")


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
