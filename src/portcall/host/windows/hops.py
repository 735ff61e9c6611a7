"""Attempts at a door with a time to live: a medium of ``Trace``."""

from __future__ import annotations

import asyncio
import os
import socket
from collections.abc import Iterator
from ipaddress import IPv4Address
from time import monotonic

from portcall.core.reach.trace import HopPacket, HopSays
from portcall.core.talk.conversation import Frame
from portcall.core.wire import ethernet, icmp, ipv4
from portcall.core.wire.octets import Malformed
from portcall.host.medium import MOST_AT_ONCE
from portcall.host.vantage import Vantage
from portcall.host.windows.bell import Bell
from portcall.host.windows.link import Link
from portcall.host.windows.sockets import CONNECTING, REFUSED
from portcall.host.windows.streams import open_socket


class DoorHops:
    """Attempts at one door, each from a port of its own; ICMP says which ran out on the way.

    Windows tells no program who sent such an error: it is read off the frames. Raises
    NotPossibleHere without a capture driver.
    """

    def __init__(self, vantage: Vantage, address: IPv4Address, port: int) -> None:
        self._vantage, self._door = vantage, (str(address), port)
        self._address = address
        self._loop = asyncio.get_running_loop()
        self._frames = Link(vantage.adapter)
        self._bell: Bell[tuple[HopPacket, float]] = Bell()
        self._attempts: dict[socket.socket, HopPacket] = {}
        self._by_port: dict[int, HopPacket] = {}
        self._loop.add_reader(self._frames.fileno(), self._heard)

    def fileno(self) -> int:
        """Readable when an attempt was answered, or an error came."""
        return self._bell.fileno()

    def send(self, packet: HopPacket) -> None:
        """Begin to connect. Raises OSError when there is no way there."""
        sock = open_socket(self._vantage, self._address)
        try:
            sock.setsockopt(socket.IPPROTO_IP, socket.IP_TTL, packet.hops)
            code = sock.connect_ex(self._door)
            if code not in CONNECTING:
                raise OSError(code, os.strerror(code))
            self._loop.add_writer(sock, self._ended, sock)
        except BaseException:
            sock.close()
            raise
        self._attempts[sock] = packet
        self._by_port[sock.getsockname()[1]] = packet

    def receive(self) -> Iterator[tuple[HopPacket, float]]:
        """Attempts that were answered by the device, and errors about others."""
        yield from self._bell.take(MOST_AT_ONCE)

    def _ended(self, sock: socket.socket) -> None:
        packet = self._attempts.pop(sock)
        self._loop.remove_writer(sock)
        code = sock.getsockopt(socket.SOL_SOCKET, socket.SO_ERROR)
        sock.close()
        if code == 0 or code in REFUSED:
            reason = "" if code == 0 else "refused"
            answer = packet._replace(said=HopSays.REACHED, by=self._address, reason=reason)
            self._bell.put((answer, monotonic()))

    def _heard(self) -> None:
        for frame, at in self._frames.receive():
            told = self._about_ours(frame)
            if told is not None:
                self._bell.put((told, at))

    def _about_ours(self, frame: Frame) -> HopPacket | None:
        """The attempt that an error is about, and who sent it; None for any other frame."""
        try:
            outer = ipv4.parse(ethernet.parse_untagged(frame.data).payload)
            if outer.protocol != ipv4.PROTOCOL_ICMP:
                return None
            said = icmp.parse_about_segment(outer.payload)
        except Malformed:
            return None
        packet = self._by_port.get(said.own_port) if said is not None else None
        if said is None or packet is None or said.destination != self._address:
            return None
        kind = HopSays.PASSED_ON if said.expired else HopSays.STOPPED
        return packet._replace(said=kind, by=outer.source, reason=said.reason)

    def close(self) -> None:
        """Close everything."""
        self._loop.remove_reader(self._frames.fileno())
        for sock in self._attempts:
            self._loop.remove_writer(sock)
            sock.close()
        self._frames.close()
        self._bell.close()
