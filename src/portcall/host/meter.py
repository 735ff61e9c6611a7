"""Counting what really leaves an adapter: a packet socket that sees the frames on their way out."""

from __future__ import annotations

import ctypes
import socket
import struct

_ETH_P_ALL = 0x0003
_SO_ATTACH_FILTER = 26
_PACKET_OUTGOING = 4
_AUXILIARY_PACKET_TYPE = 0xFFFFF000 + 4
"""SKF_AD_OFF + SKF_AD_PKTTYPE, linux/filter.h."""

_LOAD, _EQUALS, _RETURN = 0x28, 0x15, 0x06
_KEPT = 1
"""Octets of each frame: only their number matters."""

_OUTGOING_ONLY = (
    (_LOAD, 0, 0, _AUXILIARY_PACKET_TYPE),
    (_EQUALS, 0, 1, _PACKET_OUTGOING),
    (_RETURN, 0, 0, _KEPT),
    (_RETURN, 0, 0, 0),
)


class Meter:
    """Needs CAP_NET_RAW; raises OSError without."""

    def __init__(self, adapter: str) -> None:
        self._socket = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, 0)
        try:
            self._socket.setblocking(False)
            attach_filter(self._socket, _OUTGOING_ONLY)
            self._socket.bind((adapter, _ETH_P_ALL))
        except OSError:
            self._socket.close()
            raise

    def fileno(self) -> int:
        """The socket's descriptor."""
        return self._socket.fileno()

    def count(self) -> int:
        """How many frames have left since the last call."""
        seen = 0
        try:
            while True:
                self._socket.recv(_KEPT)
                seen += 1
        except OSError:
            return seen

    def close(self) -> None:
        """Close the socket."""
        self._socket.close()


def attach_filter(sock: socket.socket, program: tuple[tuple[int, int, int, int], ...]) -> None:
    """Have the kernel pass only what a classic BPF program accepts (socket(7))."""
    code = b"".join(struct.pack("HBBI", *step) for step in program)
    buffer = ctypes.create_string_buffer(code)
    head = struct.pack("HL", len(program), ctypes.addressof(buffer))
    sock.setsockopt(socket.SOL_SOCKET, _SO_ATTACH_FILTER, head)
