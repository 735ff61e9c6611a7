"""Recording what is sent and heard on an adapter, while other work goes on."""

from __future__ import annotations

import select
import socket
import struct
import threading
import time
from collections.abc import Callable

from portcall.core.trouble import NotPossibleHere
from portcall.host.linux.packet_socket import (
    AUXILIARY,
    ETH_P_ALL,
    PACKET_AUXDATA,
    PACKET_OUTGOING,
    SOL_PACKET,
    hear_groups,
    with_tag,
)
from portcall.host.linux.sockets import SO_TIMESTAMPNS

_LONGEST_FRAME = 65536
_RECEIVE_BUFFER = 16 * 1024 * 1024
_LOOK_EVERY = 0.1
_AT_ONCE = 1024
"""Frames taken before it is looked whether to end."""

_BUFFERED = 65_536
"""The most frames that the socket can hold: each takes at least 256 octets of its buffer."""


class Recorder:
    """Passes every frame of an adapter to ``write`` until it is closed; it runs in a thread of its
    own.

    ``write`` takes the frame, its time in nanoseconds since 1970, and whether it went out.
    """

    def __init__(self, adapter: str, write: Callable[[bytes, int, bool], None]) -> None:
        self._write = write
        try:
            self._socket = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, 0)
            self._socket.setblocking(False)
            self._socket.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, _RECEIVE_BUFFER)
            self._socket.setsockopt(socket.SOL_SOCKET, SO_TIMESTAMPNS, 1)
            self._socket.setsockopt(SOL_PACKET, PACKET_AUXDATA, 1)
            self._socket.bind((adapter, ETH_P_ALL))
            hear_groups(self._socket, adapter)
        except PermissionError:
            raise NotPossibleHere(
                "a capture needs root or CAP_NET_RAW: run this with sudo"
            ) from None
        except OSError as error:
            raise NotPossibleHere(f"{adapter}: cannot be recorded: {error.strerror}") from None
        self._ended = threading.Event()
        self._failure: OSError | None = None
        self._thread = threading.Thread(target=self._run, name="recorder", daemon=True)
        self._thread.start()

    def close(self) -> None:
        """Write what has arrived, and stop. Raises NotPossibleHere when writing failed."""
        self._ended.set()
        self._thread.join()
        self._socket.close()
        if self._failure is not None:
            raise NotPossibleHere(f"the capture is incomplete: {self._failure.strerror}")

    def _run(self) -> None:
        try:
            while not self._ended.is_set():
                select.select([self._socket], [], [], _LOOK_EVERY)
                self._take(_AT_ONCE)
            # Frames that have come by now are written; during a flood there are always more.
            self._take(_BUFFERED, until=time.time_ns())
        except OSError as error:
            self._failure = error

    def _take(self, most: int, until: int | None = None) -> None:
        """Write the frames that are there, at most so many, and none that came later."""
        for _ in range(most):
            try:
                data, ancillary, _, origin = self._socket.recvmsg(_LONGEST_FRAME, 128)
            except OSError:
                # The socket is empty, or the adapter went down and may come back.
                return
            notes = {(level, kind): value for level, kind, value in ancillary}
            stamp = notes.get((socket.SOL_SOCKET, SO_TIMESTAMPNS))
            status = notes.get((SOL_PACKET, PACKET_AUXDATA))
            if stamp is None:
                continue
            if status is not None:
                data = with_tag(data, *AUXILIARY.unpack(status))
            seconds, nanoseconds = struct.unpack("qq", stamp[:16])
            at = seconds * 1_000_000_000 + nanoseconds
            if until is not None and at > until:
                return
            self._write(data, at, origin[2] == PACKET_OUTGOING)
