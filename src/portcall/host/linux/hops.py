"""Attempts at a door with a time to live: a medium of ``Trace``."""

from __future__ import annotations

import errno
import select
import socket
from collections.abc import Iterator
from ipaddress import IPv4Address
from time import monotonic

from portcall.core.reach.trace import HopPacket, HopSays
from portcall.core.trouble import NotPossibleHere
from portcall.core.wire import icmp
from portcall.core.wire.octets import Malformed
from portcall.host.linux.sockets import bind_to_adapter, received_at, stamp_receives
from portcall.host.medium import MOST_AT_ONCE
from portcall.host.vantage import Vantage

_IP_TTL = 2
_LONGEST_PACKET = 65536


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
