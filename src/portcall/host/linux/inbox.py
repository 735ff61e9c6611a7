"""Frames that arrived on a packet socket, many of them by one call.

Python's sockets do not have recvmmsg(2). A sweep's answers come by the ten thousand, and one call
for each, with the objects made to tell when a frame came, costs more than all that is done with the
frame.
"""

from __future__ import annotations

import ctypes
import mmap
import socket
import struct
from collections.abc import Iterator
from time import monotonic

from portcall.core.talk.conversation import Frame
from portcall.host.linux.checksum import close_checksum
from portcall.host.linux.packet_socket import (
    AUXILIARY,
    PACKET_AUXDATA,
    SOL_PACKET,
    STATUS_TAGGED,
    VLAN_NUMBER,
    with_tag,
)
from portcall.host.linux.sockets import stamp_receives
from portcall.host.medium import MOST_AT_ONCE, clock_skew

_AT_ONCE = 64
_LONGEST_FRAME = 65536
_CHECKSUM_NOT_READY = 1 << 3


class _Piece(ctypes.Structure):
    """struct iovec."""

    _fields_ = (("base", ctypes.c_void_p), ("length", ctypes.c_size_t))


class _Message(ctypes.Structure):
    """struct msghdr."""

    _fields_ = (
        ("name", ctypes.c_void_p),
        ("name_length", ctypes.c_uint32),
        ("pieces", ctypes.c_void_p),
        ("piece_count", ctypes.c_size_t),
        ("notes", ctypes.c_void_p),
        ("notes_length", ctypes.c_size_t),
        ("flags", ctypes.c_int),
    )


class _Received(ctypes.Structure):
    """struct mmsghdr."""

    _fields_ = (("message", _Message), ("length", ctypes.c_uint))


_LENGTH = struct.Struct(f"@{_Received.length.offset}x I 0P")
"""Of a frame, in struct mmsghdr."""

_HEAD = socket.CMSG_LEN(0)
_NOTES = struct.Struct(f"@{_HEAD}x ll {_HEAD}x {AUXILIARY.format} 0P")
"""What the kernel notes with every frame, in this order: when it came, struct timespec, and struct
tpacket_auxdata: its status and its tag (cmsg(3), packet(7))."""

_receive = ctypes.CDLL(None).recvmmsg
_receive.argtypes = (
    ctypes.c_int,
    ctypes.c_void_p,
    ctypes.c_uint,
    ctypes.c_int,
    ctypes.c_void_p,
)


class Inbox:
    """Takes from a packet socket what is there; the socket stays its owner's."""

    def __init__(self, sock: socket.socket) -> None:
        sock.setsockopt(SOL_PACKET, PACKET_AUXDATA, 1)
        stamp_receives(sock)
        self._socket = sock
        # These are fresh pages from the kernel: they use no memory until a long frame fills them.
        self._frames = mmap.mmap(-1, _AT_ONCE * _LONGEST_FRAME)
        self._notes = bytearray(_AT_ONCE * _NOTES.size)
        self._pieces = (_Piece * _AT_ONCE)()
        self._received = (_Received * _AT_ONCE)()
        frames = ctypes.addressof(ctypes.c_char.from_buffer(self._frames))
        notes = ctypes.addressof(ctypes.c_char.from_buffer(self._notes))
        for number in range(_AT_ONCE):
            piece, message = self._pieces[number], self._received[number].message
            piece.base = frames + number * _LONGEST_FRAME
            piece.length = _LONGEST_FRAME
            message.pieces = ctypes.addressof(piece)
            message.piece_count = 1
            message.notes = notes + number * _NOTES.size
            message.notes_length = _NOTES.size
        self._heads = memoryview(self._received).cast("B")
        self._fresh_heads = bytes(self._received)

    def take(self) -> Iterator[tuple[Frame, float]]:
        """At most MOST_AT_ONCE frames, each with when it came on the monotonic clock."""
        frames, heads = self._frames, self._heads
        place = ctypes.addressof(self._received)
        for _ in range(MOST_AT_ONCE // _AT_ONCE):
            # The kernel wrote into the heads how much room it used, the last time.
            heads[:] = self._fresh_heads
            # The code that took the last frame may have closed the socket; its number is -1 then.
            # An error needs no message: the adapter went down, and it may come back.
            descriptor = self._socket.fileno()
            count = _receive(descriptor, place, _AT_ONCE, socket.MSG_DONTWAIT, None)
            skew, now = clock_skew(), monotonic()
            lengths, notes = _LENGTH.iter_unpack(heads), _NOTES.iter_unpack(self._notes)
            start = 0
            for _ in range(count):
                (length,), (seconds, nanoseconds, status, *tag) = next(lengths), next(notes)
                data = frames[start : start + length]
                start += _LONGEST_FRAME
                if status & _CHECKSUM_NOT_READY:
                    data = close_checksum(data)
                # A tag of VLAN 0 is a priority only: the frame belongs to this wire.
                if status & STATUS_TAGGED and tag[0] & VLAN_NUMBER:
                    data = with_tag(data, status, *tag)
                # The kernel stamps with the wall clock, which may have been set: an impossible time
                # is not used.
                at = seconds + nanoseconds * 1e-9 - skew
                yield Frame(data), at if now - 1.0 < at < now else now
            if count < _AT_ONCE:
                return
