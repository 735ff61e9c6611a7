"""Counting what really leaves an adapter: a packet socket that sees the frames on their way out."""

from __future__ import annotations

import socket

from portcall.host.filters import OUTGOING_ONLY, attach

_ETH_P_ALL = 0x0003


class Meter:
    """Needs CAP_NET_RAW; raises OSError without."""

    def __init__(self, adapter: str) -> None:
        self._socket = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, 0)
        try:
            self._socket.setblocking(False)
            attach(self._socket, OUTGOING_ONLY)
            self._socket.bind((adapter, _ETH_P_ALL))
        except OSError:
            self._socket.close()
            raise

    def count(self) -> int:
        """How many frames have left since the last call."""
        seen = 0
        try:
            while True:
                self._socket.recv(1)
                seen += 1
        except OSError:
            return seen

    def close(self) -> None:
        """Close the socket."""
        self._socket.close()
