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
from portcall.host.medium import MOST_AT_ONCE
from portcall.host.vantage import Vantage
from portcall.host.windows.sockets import bind_to_adapter

_LONGEST_DATAGRAM = 65536
_FROM_THIS_LINK = 255
"""The time to live that shows that no router has passed a packet on."""
_MOST_SENDERS = 20_000


class Datagrams:
    """A UDP socket that sends and hears on one adapter, by an address of that adapter.

    ``refusals`` are not told apart there: Windows does not say whom an error is about.
    """

    def __init__(
        self,
        adapter: str,
        port: int = 0,
        address: IPv4Address = UNSPECIFIED,
        shared: bool = False,
        refusals: bool = False,
    ) -> None:
        self.senders: set[IPv4Address] = set()
        """Who was heard, whatever it said."""
        self._socket = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        try:
            self._socket.setblocking(False)
            self._socket.setsockopt(socket.SOL_SOCKET, socket.SO_BROADCAST, 1)
            # RFC 6762 §11: a receiver may ignore packets with another time to live.
            self._socket.setsockopt(socket.IPPROTO_IP, socket.IP_MULTICAST_TTL, _FROM_THIS_LINK)
            if shared:
                self._socket.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
            if address == UNSPECIFIED:
                bind_to_adapter(self._socket, adapter, port=port)
            else:
                self._socket.bind((str(address), port))
        except OSError as error:
            self._socket.close()
            raise _cannot_bind(adapter, port, error) from None
        except NotPossibleHere:
            self._socket.close()
            raise

    @classmethod
    def at(cls, vantage: Vantage, refusals: bool = False) -> Datagrams:
        """A socket at a vantage, from its address. Raises NotPossibleHere."""
        address = vantage.interface.ip if vantage.interface else UNSPECIFIED
        return cls(vantage.adapter, address=address, refusals=refusals)

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
        """Datagrams that have arrived, with the times at which they were taken."""
        for _ in range(MOST_AT_ONCE):
            try:
                data, sender = self._socket.recvfrom(_LONGEST_DATAGRAM)
            except BlockingIOError:
                return
            except OSError:
                # An error about an earlier datagram: nobody listens there (WSAECONNRESET).
                continue
            peer = Endpoint(IPv4Address(sender[0]), sender[1])
            if len(self.senders) < _MOST_SENDERS:
                self.senders.add(peer.address)
            yield Datagram(peer, data), monotonic()

    def send(self, packet: Datagram) -> None:
        """Send a datagram to its peer."""
        self._socket.sendto(packet.payload, (str(packet.peer.address), packet.peer.port))

    def close(self) -> None:
        """Close the socket."""
        self._socket.close()


def _cannot_bind(adapter: str, port: int, error: OSError) -> NotPossibleHere:
    if error.errno == errno.EADDRINUSE or getattr(error, "winerror", 0) in (10013, 10048):
        return NotPossibleHere(
            f"UDP port {port} is taken by another program on this computer; "
            f"netstat -abnop udp says which, stop it and try again"
        )
    return NotPossibleHere(f"{adapter}: UDP cannot be opened: {error.strerror}")
