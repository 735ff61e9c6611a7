"""UDP on one adapter."""

from __future__ import annotations

import errno
import socket
from collections.abc import Iterator
from ipaddress import IPv4Address
from time import monotonic

from portcall.core.address import UNSPECIFIED
from portcall.core.talk.conversation import Datagram, Endpoint
from portcall.core.trouble import NotPossibleHere
from portcall.host.linux.sockets import bind_to_adapter, received_at, stamp_receives
from portcall.host.medium import MOST_AT_ONCE
from portcall.host.vantage import Vantage

_LONGEST_DATAGRAM = 65536
_FROM_THIS_LINK = 255
"""The time to live that shows that no router has passed a packet on."""
_MOST_SENDERS = 20_000
_IP_RECVERR = 11
_PORT_UNREACHABLE = bytes((2, 3, 3))
"""Origin ICMP, type, code: struct sock_extended_err, after the error number (ip(7))."""


class Datagrams:
    """A UDP socket that sends and hears on one adapter; needs no privilege above port 1023.

    With ``refusals`` it also hears who says that nobody listens there.
    """

    def __init__(
        self,
        adapter: str,
        port: int = 0,
        address: IPv4Address = UNSPECIFIED,
        shared: bool = False,
        refusals: bool = False,
    ) -> None:
        self._refusals = refusals
        self.senders: set[IPv4Address] = set()
        """Who was heard, whatever it said."""
        self._socket = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        try:
            self._socket.setblocking(False)
            self._socket.setsockopt(socket.SOL_SOCKET, socket.SO_BROADCAST, 1)
            # RFC 6762 §11: a receiver may ignore packets with another time to live.
            self._socket.setsockopt(socket.IPPROTO_IP, socket.IP_MULTICAST_TTL, _FROM_THIS_LINK)
            stamp_receives(self._socket)
            bind_to_adapter(self._socket, adapter)
            if refusals:
                self._socket.setsockopt(socket.IPPROTO_IP, _IP_RECVERR, 1)
            if shared:
                self._socket.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
            self._socket.bind((str(address), port))
        except OSError as error:
            self._socket.close()
            raise _cannot_bind(adapter, port, error) from None

    @classmethod
    def at(cls, vantage: Vantage, refusals: bool = False) -> Datagrams:
        """A socket at a vantage, from its address. Raises NotPossibleHere."""
        address = vantage.interface.ip if vantage.interface else UNSPECIFIED
        made: Datagrams = vantage.call(
            lambda: cls(vantage.adapter, address=address, refusals=refusals)
        )
        return made

    def join(self, group: IPv4Address, own: IPv4Address) -> None:
        """Hear what is sent to a multicast group where ``own`` is. Raises OSError."""
        membership = group.packed + own.packed
        self._socket.setsockopt(socket.IPPROTO_IP, socket.IP_ADD_MEMBERSHIP, membership)

    @property
    def port(self) -> int:
        """The port it has here."""
        return int(self._socket.getsockname()[1])

    def fileno(self) -> int:
        """The socket's descriptor."""
        return self._socket.fileno()

    def receive(self) -> Iterator[tuple[Datagram, float]]:
        """Datagrams that have arrived, with their times."""
        flags = 0
        for _ in range(MOST_AT_ONCE):
            try:
                data, ancillary, _, sender = self._socket.recvmsg(_LONGEST_DATAGRAM, 128, flags)
            except BlockingIOError:
                if flags or not self._refusals:
                    return
                flags = socket.MSG_ERRQUEUE
                continue
            except OSError:
                # This is an error about an earlier datagram; the error queue has the details.
                continue
            peer = Endpoint(IPv4Address(sender[0]), sender[1])
            if not flags:
                if len(self.senders) < _MOST_SENDERS:
                    self.senders.add(peer.address)
                yield Datagram(peer, data), received_at(ancillary)
            elif _is_refusal(ancillary):
                yield Datagram(peer, b"", refused=True), monotonic()

    def send(self, packet: Datagram) -> None:
        """Send a datagram to its peer."""
        try:
            self._send(packet)
        except OSError:
            if not self._refusals:
                raise
            # The kernel told of an error about an earlier datagram instead of sending this one.
            self._send(packet)

    def _send(self, packet: Datagram) -> None:
        self._socket.sendto(packet.payload, (str(packet.peer.address), packet.peer.port))

    def close(self) -> None:
        """Close the socket."""
        self._socket.close()


def _is_refusal(ancillary: list[tuple[int, int, bytes]]) -> bool:
    """Whether what came out of the error queue is ICMP "port unreachable" (RFC 792)."""
    for level, kind, data in ancillary:
        if level == socket.IPPROTO_IP and kind == _IP_RECVERR and len(data) >= 8:
            return data[4:7] == _PORT_UNREACHABLE
    return False


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
