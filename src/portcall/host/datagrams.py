"""UDP on one adapter."""

from __future__ import annotations

import errno
import socket
from collections.abc import Iterator
from ipaddress import IPv4Address

from portcall.core.address import UNSPECIFIED
from portcall.core.conversation import Datagram, Endpoint
from portcall.core.trouble import NotPossibleHere
from portcall.host.medium import MOST_AT_ONCE, bind_to_adapter, received_at, stamp_receives
from portcall.host.vantage import Vantage

_LONGEST_DATAGRAM = 65536


class Datagrams:
    """A UDP socket that sends and hears on one adapter; needs no privilege above port 1023."""

    def __init__(
        self, adapter: str, port: int = 0, address: IPv4Address = UNSPECIFIED, shared: bool = False
    ) -> None:
        self._socket = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        try:
            self._socket.setblocking(False)
            self._socket.setsockopt(socket.SOL_SOCKET, socket.SO_BROADCAST, 1)
            stamp_receives(self._socket)
            bind_to_adapter(self._socket, adapter)
            if shared:
                self._socket.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
            self._socket.bind((str(address), port))
        except OSError as error:
            self._socket.close()
            raise _cannot_bind(adapter, port, error) from None

    @classmethod
    def at(cls, vantage: Vantage) -> Datagrams:
        """A socket at a vantage, from its address. Raises NotPossibleHere."""
        address = vantage.interface.ip if vantage.interface else UNSPECIFIED
        made: Datagrams = vantage.call(lambda: cls(vantage.adapter, address=address))
        return made

    def join(self, group: IPv4Address, own: IPv4Address) -> None:
        """Hear what is sent to a multicast group where ``own`` is. Raises OSError."""
        membership = group.packed + own.packed
        self._socket.setsockopt(socket.IPPROTO_IP, socket.IP_ADD_MEMBERSHIP, membership)

    def fileno(self) -> int:
        """The socket's descriptor."""
        return self._socket.fileno()

    def receive(self) -> Iterator[tuple[Datagram, float]]:
        """Datagrams that have arrived, with their times."""
        for _ in range(MOST_AT_ONCE):
            try:
                data, ancillary, _, sender = self._socket.recvmsg(_LONGEST_DATAGRAM, 128)
            except OSError:
                # Nothing there, or an error about an earlier datagram: that one is lost.
                return
            peer = Endpoint(IPv4Address(sender[0]), sender[1])
            yield Datagram(peer, data), received_at(ancillary)

    def send(self, packet: Datagram) -> None:
        """Send a datagram to its peer."""
        self._socket.sendto(packet.payload, (str(packet.peer.address), packet.peer.port))

    def close(self) -> None:
        """Close the socket."""
        self._socket.close()


def _cannot_bind(adapter: str, port: int, error: OSError) -> NotPossibleHere:
    if error.errno == errno.EADDRINUSE:
        return NotPossibleHere(
            f"UDP port {port} is taken by another program on this computer; "
            f"ss -ulpn 'sport = :{port}' says which, stop it and try again"
        )
    if error.errno in (errno.EACCES, errno.EPERM):
        return NotPossibleHere(
            f"UDP port {port} on {adapter} needs root or CAP_NET_BIND_SERVICE: run this with sudo"
        )
    return NotPossibleHere(f"{adapter}: UDP cannot be opened: {error.strerror}")
