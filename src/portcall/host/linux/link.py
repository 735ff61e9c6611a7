"""Raw Ethernet on one adapter: a Linux packet socket (packet(7))."""

from __future__ import annotations

import socket
from collections.abc import Iterator

from portcall.core.address import Mac
from portcall.core.talk.conversation import Frame
from portcall.core.trouble import NotPossibleHere
from portcall.host.filters import Program
from portcall.host.linux.attach import attach
from portcall.host.linux.inbox import Inbox
from portcall.host.linux.packet_socket import (
    ETH_P_ALL,
    PACKET_IGNORE_OUTGOING,
    SOL_PACKET,
    hear_groups,
)

_RECEIVE_BUFFER = 4 * 1024 * 1024


class Link:
    """All frames that arrive on an adapter, and frames sent on it. Needs CAP_NET_RAW.

    With ``passes``, only the frames that this program accepts arrive. With ``outgoing``, the
    frames that leave arrive here, too.
    """

    def __init__(self, adapter: str, passes: Program | None = None, outgoing: bool = False) -> None:
        self._adapter = adapter
        try:
            self._socket = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, 0)
        except PermissionError:
            raise NotPossibleHere(
                "raw Ethernet needs root or CAP_NET_RAW: run this with sudo"
            ) from None
        try:
            self._socket.setblocking(False)
            self._socket.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, _RECEIVE_BUFFER)
            self._socket.setsockopt(SOL_PACKET, PACKET_IGNORE_OUTGOING, int(not outgoing))
            self._inbox = Inbox(self._socket)
            if passes is not None:
                attach(self._socket, passes)
            # Bound last: from here on frames come in.
            self._socket.bind((adapter, ETH_P_ALL))
            hear_groups(self._socket, adapter)
        except OSError as error:
            self._socket.close()
            raise NotPossibleHere(f"{adapter}: cannot be opened: {error.strerror}") from None

    @property
    def mac(self) -> Mac:
        """The adapter's own MAC."""
        return Mac(self._socket.getsockname()[4])

    def fileno(self) -> int:
        """The socket's descriptor."""
        return self._socket.fileno()

    def receive(self) -> Iterator[tuple[Frame, float]]:
        """Frames that have arrived, with their times."""
        return self._inbox.take()

    def send(self, packet: Frame) -> None:
        """Send a frame as it is."""
        self._socket.send(packet.data)

    def close(self) -> None:
        """Close the socket."""
        self._socket.close()
