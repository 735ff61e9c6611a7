"""ICMP echoes on one adapter, by the system's own call: no right is needed for them.

The call waits for its answer (IcmpSendEcho2Ex), so that each echo has a thread; what comes of it is
told as the message that it stands for.
"""

from __future__ import annotations

import ctypes
import os
import socket
import struct
import sys
import threading
from collections.abc import Iterator
from contextlib import suppress
from ctypes import wintypes
from ipaddress import IPv4Address
from time import monotonic

from portcall.core.talk.conversation import IcmpPacket
from portcall.core.trouble import NotPossibleHere
from portcall.core.wire import icmp
from portcall.core.wire.octets import Malformed
from portcall.host.medium import MOST_AT_ONCE
from portcall.host.windows.bell import Bell
from portcall.host.windows.sockets import own_address

assert sys.platform == "win32"

_WAIT = 4000
"""Milliseconds that the system waits for an answer; who asks decides earlier."""

_MOST_THREADS = 256
_WHOLE = 2
"""IP_FLAG_DF: not to be cut into fragments on the way."""
_USUAL_TTL = 128

_ERRORS = {
    11002: (icmp.DESTINATION_UNREACHABLE, 0),
    11003: (icmp.DESTINATION_UNREACHABLE, 1),
    11004: (icmp.DESTINATION_UNREACHABLE, 2),
    11005: (icmp.DESTINATION_UNREACHABLE, 3),
    11009: (icmp.DESTINATION_UNREACHABLE, 4),
    11013: (icmp.TIME_EXCEEDED, 0),
}
"""What the system says instead of an answer (ipexport.h), as the message that it had."""


class _Options(ctypes.Structure):
    """IP_OPTION_INFORMATION."""

    _fields_ = (
        ("ttl", ctypes.c_uint8),
        ("tos", ctypes.c_uint8),
        ("flags", ctypes.c_uint8),
        ("size", ctypes.c_uint8),
        ("data", ctypes.c_void_p),
    )


class _Reply(ctypes.Structure):
    """ICMP_ECHO_REPLY."""

    _fields_ = (
        ("address", ctypes.c_uint8 * 4),
        ("status", wintypes.ULONG),
        ("milliseconds", wintypes.ULONG),
        ("size", wintypes.USHORT),
        ("reserved", wintypes.USHORT),
        ("data", ctypes.c_void_p),
        ("options", _Options),
    )


_iphlpapi = ctypes.WinDLL("iphlpapi")
_iphlpapi.IcmpCreateFile.restype = wintypes.HANDLE
_iphlpapi.IcmpCloseHandle.argtypes = (wintypes.HANDLE,)
_iphlpapi.IcmpSendEcho2Ex.argtypes = (
    *(wintypes.HANDLE, wintypes.HANDLE, ctypes.c_void_p, ctypes.c_void_p),
    *(wintypes.ULONG, wintypes.ULONG, ctypes.c_void_p, wintypes.WORD, ctypes.c_void_p),
    *(ctypes.c_void_p, wintypes.DWORD, wintypes.DWORD),
)
_iphlpapi.IcmpSendEcho2Ex.restype = wintypes.DWORD


class Echoes:
    """Echoes from an adapter's own address, and what comes back.

    ``whole``: what is sent may not be cut into fragments on the way (RFC 791, Don't Fragment).
    """

    def __init__(self, adapter: str, whole: bool = False) -> None:
        if own_address(adapter) is None:
            raise NotPossibleHere(f"{adapter} has no address to send echoes from")
        self._adapter = adapter
        self._whole = whole
        self._bell: Bell[tuple[IcmpPacket, float]] = Bell()
        self._under_way = threading.Semaphore(_MOST_THREADS)
        self._closed = False

    @classmethod
    def once(cls, adapter: str, packet: IcmpPacket) -> IcmpPacket | None:
        """Send one echo and wait for what comes back; None for nothing. Raises NotPossibleHere."""
        echo = icmp.parse_answer(packet.message)
        echoes = cls(adapter)
        try:
            return echoes._asked(packet, echo) if isinstance(echo, icmp.Echo) else None
        finally:
            echoes.close()

    @property
    def identifier(self) -> int:
        """The identifier of our echoes, as they are told here; on the wire it is the system's."""
        return own_identifier()

    def fileno(self) -> int:
        """Readable when something came back."""
        return self._bell.fileno()

    def receive(self) -> Iterator[tuple[IcmpPacket, float]]:
        """ICMP messages that have come back, with their times."""
        yield from self._bell.take(MOST_AT_ONCE)

    def send(self, packet: IcmpPacket) -> float:
        """Send an echo to its peer; with a ``ttl``, with this time to live. Raises OSError."""
        try:
            echo = icmp.parse_answer(packet.message)
        except Malformed as error:
            raise OSError(str(error)) from None
        if not isinstance(echo, icmp.Echo):
            raise OSError("only echoes can be sent")
        if not self._under_way.acquire(blocking=False):
            raise BlockingIOError("too many echoes are under way")
        left = monotonic()
        threading.Thread(target=self._ask, args=(packet, echo), daemon=True).start()
        return left

    def _ask(self, packet: IcmpPacket, echo: icmp.Echo) -> None:
        try:
            # An adapter that goes meanwhile answers nothing.
            with suppress(OSError):
                told = self._asked(packet, echo)
                if told is not None and not self._closed:
                    self._bell.put((told, monotonic()))
        finally:
            self._under_way.release()

    def _asked(self, packet: IcmpPacket, echo: icmp.Echo) -> IcmpPacket | None:
        """Send it and wait; the message that came back, or None."""
        own = own_address(self._adapter, packet.peer)
        if own is None:
            return None
        data, room = echo.payload, ctypes.sizeof(_Reply) + len(echo.payload) + 64
        buffer = ctypes.create_string_buffer(room)
        flags = _WHOLE if self._whole else 0
        options = _Options(packet.ttl or _USUAL_TTL, 0, flags, 0, None)
        handle = _iphlpapi.IcmpCreateFile()
        try:
            count = _iphlpapi.IcmpSendEcho2Ex(
                *(handle, None, None, None, _number(own), _number(packet.peer)),
                *(data, len(data), ctypes.byref(options), buffer, room, _WAIT),
            )
        finally:
            _iphlpapi.IcmpCloseHandle(handle)
        if not count:
            return None
        reply = ctypes.cast(buffer, ctypes.POINTER(_Reply)).contents
        by = IPv4Address(bytes(reply.address))
        if reply.status == 0:
            answered = icmp.encode_echo(echo._replace(is_reply=True))
            return IcmpPacket(by, answered, int(reply.options.ttl))
        error = _ERRORS.get(reply.status)
        if error is None:
            return None
        return IcmpPacket(by, icmp.encode_undelivered(packet.peer, *error, packet.message))

    def close(self) -> None:
        """Hear nothing any more; what is under way ends by itself."""
        self._closed = True
        with suppress(OSError):
            self._bell.close()


def own_identifier() -> int:
    """The identifier that this process puts into its echoes."""
    return os.getpid() & 0xFFFF


def _number(address: IPv4Address) -> int:
    """An address as the system takes it: its octets in the order of the wire."""
    number: int = struct.unpack("=I", socket.inet_aton(str(address)))[0]
    return number
