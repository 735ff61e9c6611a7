"""Having the kernel choose the frames that a packet socket receives (socket(7), linux/filter.h)."""

from __future__ import annotations

import ctypes
import socket
import struct

from portcall.core.talk.receivers import HEADERS
from portcall.host.filters import EQUALS, LOAD_HALF, NOTHING, RETURN, Program
from portcall.host.linux.packet_socket import PACKET_OUTGOING

_SO_ATTACH_FILTER = 26
_AUXILIARY_PACKET_TYPE = 0xFFFFF000 + 4
"""SKF_AD_OFF + SKF_AD_PKTTYPE."""

OUTGOING_ONLY: Program = (
    (LOAD_HALF, 0, 0, _AUXILIARY_PACKET_TYPE),
    (EQUALS, 0, 1, PACKET_OUTGOING),
    (RETURN, 0, 0, HEADERS),
    (RETURN, 0, 0, NOTHING),
)
"""The headers of each frame that leaves: for counting them, and whom they are for."""


def attach(sock: socket.socket, program: Program) -> None:
    """Have the kernel pass only what a program accepts. Raises OSError."""
    code = b"".join(struct.pack("HBBI", *step) for step in program)
    buffer = ctypes.create_string_buffer(code)
    head = struct.pack("HL", len(program), ctypes.addressof(buffer))
    sock.setsockopt(socket.SOL_SOCKET, _SO_ATTACH_FILTER, head)
