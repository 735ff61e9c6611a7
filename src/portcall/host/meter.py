"""Counting what really leaves an adapter: a packet socket that sees the frames on their way out."""

from __future__ import annotations

import socket
import struct

from portcall.host.filters import OUTGOING_ONLY, attach
from portcall.host.packet_socket import ETH_P_ALL, PACKET_STATISTICS, SOL_PACKET

_NO_ROOM = 1
"""The kernel rounds up to its least: what is counted need not be kept."""


class Meter:
    """Needs CAP_NET_RAW; raises OSError without."""

    def __init__(self, adapter: str) -> None:
        self._socket = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, 0)
        try:
            self._socket.setblocking(False)
            attach(self._socket, OUTGOING_ONLY)
            self._socket.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, _NO_ROOM)
            self._socket.bind((adapter, ETH_P_ALL))
        except OSError:
            self._socket.close()
            raise

    def count(self) -> int:
        """How many frames have left since the last call."""
        statistics = self._socket.getsockopt(SOL_PACKET, PACKET_STATISTICS, 8)
        frames, _ = struct.unpack("=II", statistics)
        return int(frames)

    def close(self) -> None:
        """Close the socket."""
        self._socket.close()
