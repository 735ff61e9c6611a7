"""Questions with a time to live: echoes, and attempts at a door. The media of ``Trace``."""

from __future__ import annotations

import errno
import select
import socket
from collections.abc import Iterator
from ipaddress import IPv4Address
from time import monotonic

from portcall.core.reach.trace import HopPacket, HopSays
from portcall.core.talk.conversation import IcmpPacket
from portcall.core.trouble import NotPossibleHere
from portcall.core.wire import icmp
from portcall.core.wire.octets import Malformed
from portcall.host.linux.echoes import Echoes
from portcall.host.linux.sockets import bind_to_adapter, received_at, stamp_receives
from portcall.host.medium import MOST_AT_ONCE
from portcall.host.vantage import Vantage

_PAYLOAD = bytes(range(48))
_IP_TTL = 2
_LONGEST_PACKET = 65536


class EchoHops:
    """Echoes to one address (RFC 792). Raises NotPossibleHere as ``Echoes`` does."""

    def __init__(self, vantage: Vantage, address: IPv4Address) -> None:
        self._echoes: Echoes = vantage.call(lambda: Echoes(vantage.adapter))
        self._address = address
        self._hops: dict[int, int] = {}

    def fileno(self) -> int:
        """The socket's descriptor."""
        return self._echoes.fileno()

    def send(self, packet: HopPacket) -> None:
        """Send an echo with that time to live."""
        echo = icmp.Echo(False, self._echoes.identifier, packet.number, _PAYLOAD)
        self._hops[packet.number] = packet.hops
        self._echoes.send(IcmpPacket(self._address, icmp.encode_echo(echo), packet.hops))

    def receive(self) -> Iterator[tuple[HopPacket, float]]:
        """Echoes that are back, and errors about them."""
        for packet, at in self._echoes.receive():
            try:
                said = icmp.parse_answer(packet.message)
            except Malformed:
                continue
            if said is None or said.identifier != self._echoes.identifier:
                continue
            number = said.sequence
            hops = self._hops.get(number)
            if hops is None:
                continue
            if isinstance(said, icmp.Undelivered):
                if said.destination == self._address:
                    kind = HopSays.PASSED_ON if said.expired else HopSays.STOPPED
                    yield HopPacket(hops, number, kind, packet.peer, None, said.reason), at
            elif said.is_reply and packet.peer == self._address:
                yield HopPacket(hops, number, HopSays.REACHED, packet.peer, packet.ttl), at

    def close(self) -> None:
        """Close the socket."""
        self._echoes.close()


class DoorHops:
    """Attempts at one door, each from a port of its own; ICMP says which ran out on the way.

    Needs CAP_NET_RAW: to an ordinary program the kernel does not tell who sent the error.
    """

    def __init__(self, vantage: Vantage, address: IPv4Address, port: int) -> None:
        self._vantage, self._door = vantage, (str(address), port)
        self._address = address
        try:
            self._errors = vantage.call(
                lambda: socket.socket(socket.AF_INET, socket.SOCK_RAW, socket.IPPROTO_ICMP)
            )
        except PermissionError:
            raise NotPossibleHere(
                "following a door hop by hop needs root or CAP_NET_RAW: run this with sudo, or "
                "leave --door out"
            ) from None
        self._errors.setblocking(False)
        stamp_receives(self._errors)
        bind_to_adapter(self._errors, vantage.adapter)
        self._epoll = select.epoll()
        self._epoll.register(self._errors, select.EPOLLIN)
        self._attempts: dict[int, tuple[socket.socket, HopPacket]] = {}
        self._by_port: dict[int, HopPacket] = {}

    def fileno(self) -> int:
        """One descriptor for all of them."""
        return self._epoll.fileno()

    def send(self, packet: HopPacket) -> None:
        """Begin to connect. Raises OSError when there is no way there."""
        kind = socket.SOCK_STREAM | socket.SOCK_NONBLOCK
        sock: socket.socket = self._vantage.call(lambda: socket.socket(socket.AF_INET, kind))
        try:
            bind_to_adapter(sock, self._vantage.adapter)
            sock.setsockopt(socket.SOL_IP, _IP_TTL, packet.hops)
            code = sock.connect_ex(self._door)
            if code not in (0, errno.EINPROGRESS):
                raise OSError(code, "cannot be sent")
            self._epoll.register(sock, select.EPOLLOUT)
        except BaseException:
            sock.close()
            raise
        self._attempts[sock.fileno()] = (sock, packet)
        self._by_port[sock.getsockname()[1]] = packet

    def receive(self) -> Iterator[tuple[HopPacket, float]]:
        """Attempts that were answered by the device, and errors about others."""
        for number, _ in self._epoll.poll(0, MOST_AT_ONCE):
            if number == self._errors.fileno():
                yield from self._read_errors()
            elif number in self._attempts:
                sock, packet = self._attempts.pop(number)
                code = sock.getsockopt(socket.SOL_SOCKET, socket.SO_ERROR)
                sock.close()
                if code in (0, errno.ECONNREFUSED):
                    reason = "" if code == 0 else "refused"
                    answer = packet._replace(said=HopSays.REACHED, by=self._address, reason=reason)
                    yield answer, monotonic()

    def _read_errors(self) -> Iterator[tuple[HopPacket, float]]:
        for _ in range(MOST_AT_ONCE):
            try:
                data, ancillary, _, sender = self._errors.recvmsg(_LONGEST_PACKET, 256)
            except OSError:
                return
            try:
                said = icmp.parse_about_segment(data[(data[0] & 0x0F) * 4 :])
            except Malformed:
                continue
            packet = self._by_port.get(said.own_port) if said is not None else None
            if said is None or packet is None or said.destination != self._address:
                continue
            kind = HopSays.PASSED_ON if said.expired else HopSays.STOPPED
            by = IPv4Address(sender[0])
            yield packet._replace(said=kind, by=by, reason=said.reason), received_at(ancillary)

    def close(self) -> None:
        """Close everything."""
        for sock, _ in self._attempts.values():
            sock.close()
        self._errors.close()
        self._epoll.close()
