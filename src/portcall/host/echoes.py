"""ICMP on one adapter, through the kernel's own IPv4: routes and ARP as every program has them."""

from __future__ import annotations

import os
import socket
from collections.abc import Iterator
from ipaddress import IPv4Address

from portcall.core.talk.conversation import IcmpPacket
from portcall.core.trouble import NotPossibleHere
from portcall.host.medium import MOST_AT_ONCE, bind_to_adapter, received_at, stamp_receives

_IP_RECVTTL = 12
_IP_MTU_DISCOVER, _IP_PMTUDISC_PROBE = 10, 3
"""Set Don't Fragment, and take no notice of what is known of the way's largest packet (ip(7))."""
_LONGEST_PACKET = 65536


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
            if whole:
                self._socket.setsockopt(socket.SOL_IP, _IP_MTU_DISCOVER, _IP_PMTUDISC_PROBE)
            bind_to_adapter(self._socket, adapter)
            self._socket.bind(("0.0.0.0", 0))
        except OSError as error:
            self._socket.close()
            raise NotPossibleHere(f"{adapter}: cannot be opened: {error.strerror}") from None

    @property
    def identifier(self) -> int:
        """What tells our echoes from others': the kernel chooses it for a ping socket."""
        return os.getpid() & 0xFFFF if self._raw else int(self._socket.getsockname()[1])

    def fileno(self) -> int:
        """The socket's descriptor."""
        return self._socket.fileno()

    def receive(self) -> Iterator[tuple[IcmpPacket, float]]:
        """ICMP messages that have arrived, with their times."""
        for _ in range(MOST_AT_ONCE):
            try:
                data, ancillary, _, sender = self._socket.recvmsg(_LONGEST_PACKET, 256)
            except OSError:
                return
            if self._raw:
                # A raw socket shows the IPv4 header, already checked by the kernel.
                data = data[(data[0] & 0x0F) * 4 :]
            ttl = _ttl(ancillary)
            yield IcmpPacket(IPv4Address(sender[0]), data, ttl), received_at(ancillary)

    def send(self, packet: IcmpPacket) -> None:
        """Send a message to its peer."""
        self._socket.sendto(packet.message, (str(packet.peer), 0))

    def close(self) -> None:
        """Close the socket."""
        self._socket.close()


def _ping_socket() -> socket.socket:
    try:
        return socket.socket(socket.AF_INET, socket.SOCK_DGRAM, socket.IPPROTO_ICMP)
    except PermissionError:
        raise NotPossibleHere(
            "ping needs root or CAP_NET_RAW, or a group in net.ipv4.ping_group_range: "
            "run this with sudo"
        ) from None


def _ttl(ancillary: list[tuple[int, int, bytes]]) -> int | None:
    for level, kind, data in ancillary:
        if level == socket.SOL_IP and kind == socket.IP_TTL:
            return int.from_bytes(data[:4], "little")
    return None
