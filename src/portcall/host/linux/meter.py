"""Counting what really leaves an adapter: a packet socket that sees the frames on their way out."""

from __future__ import annotations

import socket
import struct

from portcall.core.talk.receivers import HEADERS
from portcall.host.linux.attach import OUTGOING_ONLY, attach
from portcall.host.linux.packet_socket import ETH_P_ALL, PACKET_STATISTICS, SOL_PACKET

_ROOM = 1 << 18
_MOST_AT_ONCE = 512


class Meter:
    """Needs CAP_NET_RAW; raises OSError without."""

    def __init__(self, adapter: str) -> None:
        self._socket = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, 0)
        try:
            self._socket.setblocking(False)
            attach(self._socket, OUTGOING_ONLY)
            self._socket.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, _ROOM)
            self._socket.bind((adapter, ETH_P_ALL))
        except OSError:
            self._socket.close()
            raise

    def departed(self) -> tuple[list[bytes], int]:
        """The headers of the frames that have left since the last call, and how many more did."""
        heads: list[bytes] = []
        try:
            while len(heads) < _MOST_AT_ONCE:
                heads.append(self._socket.recv(HEADERS))
        except OSError:
            # No more frames are there; or the adapter is down, and counting goes on when it is
            # back.
            pass
        statistics = self._socket.getsockopt(SOL_PACKET, PACKET_STATISTICS, 8)
        _, dropped = struct.unpack("=II", statistics)
        return heads, int(dropped)

    def close(self) -> None:
        """Close the socket."""
        self._socket.close()
