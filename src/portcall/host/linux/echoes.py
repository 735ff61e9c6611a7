"""ICMP on one adapter, through the kernel's own IPv4: routes and ARP as every program has them."""

from __future__ import annotations

import os
import socket
import struct
from collections.abc import Iterator
from functools import lru_cache
from ipaddress import IPv4Address
from time import monotonic

from portcall.core.talk.conversation import IcmpPacket
from portcall.core.trouble import NotPossibleHere
from portcall.core.wire import icmp
from portcall.host.linux.sockets import bind_to_adapter, received_at, stamp_receives
from portcall.host.medium import MOST_AT_ONCE, NoPings

_IP_RECVTTL = 12
_IP_TTL = 2
_IP_RECVERR, _MSG_ERRQUEUE = 11, 0x2000
_EXTENDED_ERROR = struct.Struct("=IBBBxII")
"""struct sock_extended_err, before the address of who sent the error (ip(7))."""

_FROM_ICMP = 2
_IP_MTU_DISCOVER, _IP_PMTUDISC_PROBE = 10, 3
"""Set Don't Fragment, and take no notice of what is known of the way's largest packet (ip(7))."""
_LONGEST_PACKET = 65536
_MOST_KNOWN = 4096
"""Addresses that are kept as they were read: to read one takes longer than to take an echo."""


class Echoes:
    """A raw ICMP socket where it is allowed, else the kernel's ping socket (icmp(7)).

    ``whole``: what is sent may not be cut into fragments on the way (RFC 791, Don't Fragment).
    """

    def __init__(self, adapter: str, whole: bool = False) -> None:
        self._raw = True
        try:
            self._socket = socket.socket(socket.AF_INET, socket.SOCK_RAW, socket.IPPROTO_ICMP)
        except PermissionError:
            self._raw = False
            self._socket = _ping_socket()
        try:
            self._socket.setblocking(False)
            stamp_receives(self._socket)
            self._socket.setsockopt(socket.SOL_IP, _IP_RECVTTL, 1)
            if not self._raw:
                self._socket.setsockopt(socket.SOL_IP, _IP_RECVERR, 1)
            if whole:
                self._socket.setsockopt(socket.SOL_IP, _IP_MTU_DISCOVER, _IP_PMTUDISC_PROBE)
            bind_to_adapter(self._socket, adapter)
            self._socket.bind(("0.0.0.0", 0))
        except OSError as error:
            self._socket.close()
            raise NotPossibleHere(f"{adapter}: cannot be opened: {error.strerror}") from None

    @property
    def identifier(self) -> int:
        """The identifier of our echoes: the kernel chooses it for a ping socket."""
        return own_identifier() if self._raw else int(self._socket.getsockname()[1])

    def fileno(self) -> int:
        """The socket's descriptor."""
        return self._socket.fileno()

    def receive(self) -> Iterator[tuple[IcmpPacket, float]]:
        """ICMP messages that have arrived, with their times."""
        for _ in range(MOST_AT_ONCE):
            try:
                data, ancillary, _, sender = self._socket.recvmsg(_LONGEST_PACKET, 256)
            except BlockingIOError:
                break
            except OSError:
                # This is an error about a packet that was sent; the error queue below says who
                # reported it.
                continue
            if self._raw:
                # A raw socket shows the IPv4 header, already checked by the kernel.
                data = data[(data[0] & 0x0F) * 4 :]
            ttl = _ttl(ancillary)
            yield IcmpPacket(_address(sender[0]), data, ttl), received_at(ancillary)
        if not self._raw:
            yield from self._errors()

    def _errors(self) -> Iterator[tuple[IcmpPacket, float]]:
        """Errors about what a ping socket sent, as the messages that they came in."""
        for _ in range(MOST_AT_ONCE):
            try:
                request, ancillary, _, goal = self._socket.recvmsg(
                    _LONGEST_PACKET, 512, _MSG_ERRQUEUE
                )
            except OSError:
                return
            for level, number, data in ancillary:
                if level == socket.SOL_IP and number == _IP_RECVERR:
                    _, origin, kind, code, mtu, _ = _EXTENDED_ERROR.unpack_from(data)
                    offender = data[_EXTENDED_ERROR.size + 4 : _EXTENDED_ERROR.size + 8]
                    if origin == _FROM_ICMP and len(offender) == 4:
                        address = IPv4Address(goal[0])
                        short = mtu if mtu <= _LONGEST_PACKET else 0
                        message = icmp.encode_undelivered(address, kind, code, request, short)
                        packet = IcmpPacket(IPv4Address(offender), message)
                        yield packet, received_at(ancillary)

    def send(self, packet: IcmpPacket) -> float:
        """Send a message to its peer; with a ``ttl``, with this time to live."""
        try:
            return self._send(packet)
        except OSError:
            if self._raw:
                raise
            # A ping socket also reports errors about earlier packets here.
            return self._send(packet)

    def _send(self, packet: IcmpPacket) -> float:
        goal, message = (str(packet.peer), 0), packet.message
        if packet.ttl is None:
            send = self._socket.sendto
            left = monotonic()
            send(message, goal)
        else:
            hops = [(socket.SOL_IP, _IP_TTL, struct.pack("=i", packet.ttl))]
            left = monotonic()
            self._socket.sendmsg([message], hops, 0, goal)
        return left

    def close(self) -> None:
        """Close the socket."""
        self._socket.close()


def own_identifier() -> int:
    """The identifier that this process puts into its echoes where it may choose."""
    return os.getpid() & 0xFFFF


@lru_cache(maxsize=_MOST_KNOWN)
def _address(text: str) -> IPv4Address:
    return IPv4Address(text)


def _ping_socket() -> socket.socket:
    try:
        return socket.socket(socket.AF_INET, socket.SOCK_DGRAM, socket.IPPROTO_ICMP)
    except PermissionError:
        raise NoPings(
            "ping needs root or CAP_NET_RAW, or a group in net.ipv4.ping_group_range: "
            "run this with sudo"
        ) from None


def _ttl(ancillary: list[tuple[int, int, bytes]]) -> int | None:
    for level, kind, data in ancillary:
        if level == socket.SOL_IP and kind == socket.IP_TTL:
            return int.from_bytes(data[:4], "little")
    return None
