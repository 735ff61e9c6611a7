"""Connecting to many TCP ports at once: the medium of ``DoorKnock``."""

from __future__ import annotations

import errno
import os
import select
import socket
from collections.abc import Iterator
from functools import partial
from time import monotonic

from portcall.core.talk.conversation import Endpoint
from portcall.core.talk.door_knock import DoorState, Knock
from portcall.host.linux.streams import Stream, open_socket
from portcall.host.medium import MOST_AT_ONCE
from portcall.host.vantage import Vantage


class Doors:
    """Connections being made from one vantage.

    One descriptor stands for all of them: a look at a plant makes thousands, and each of them costs
    no more than its own system calls.
    """

    def __init__(self, vantage: Vantage) -> None:
        self._open_socket = partial(vantage.call, partial(open_socket, vantage))
        self._epoll = select.epoll()
        self._bell = os.eventfd(0, os.EFD_NONBLOCK | os.EFD_CLOEXEC)
        self._epoll.register(self._bell, select.EPOLLIN)
        self._attempts: dict[int, tuple[Endpoint, socket.socket]] = {}
        self._numbers: dict[Endpoint, int] = {}
        self._opened: dict[Endpoint, socket.socket] = {}
        self._left: list[Endpoint] = []

    def fileno(self) -> int:
        """Readable when an attempt has come to an end."""
        return self._epoll.fileno()

    def send(self, packet: Knock) -> None:
        """Begin to connect. Raises OSError when there is no way there."""
        door = packet.door
        sock: socket.socket = self._open_socket()
        try:
            code = sock.connect_ex((str(door.address), door.port))
            if code not in (0, errno.EINPROGRESS):
                raise OSError(code, os.strerror(code))
            self._epoll.register(sock, select.EPOLLOUT)
        except BaseException:
            sock.close()
            raise
        number = sock.fileno()
        self._attempts[number] = (door, sock)
        self._numbers[door] = number

    def receive(self) -> Iterator[tuple[Knock, float]]:
        """Attempts that have come to an end, and doors that were left."""
        for number, _ in self._epoll.poll(0, MOST_AT_ONCE):
            if number == self._bell:
                os.eventfd_read(self._bell)
                left, self._left = self._left, []
                for door in left:
                    yield Knock(door, DoorState.CLOSED), monotonic()
            elif number in self._attempts:
                door = self._attempts[number][0]
                yield Knock(door, self._end(door)), monotonic()

    def _end(self, door: Endpoint) -> DoorState:
        sock = self._forget(door)
        code = sock.getsockopt(socket.SOL_SOCKET, socket.SO_ERROR)
        if code == 0:
            self._epoll.unregister(sock)
            self._opened[door] = sock
            return DoorState.OPEN
        sock.close()
        return DoorState.REFUSED if code == errno.ECONNREFUSED else DoorState.SILENT

    def _forget(self, door: Endpoint) -> socket.socket:
        return self._attempts.pop(self._numbers.pop(door))[1]

    def give_up(self, door: Endpoint) -> None:
        """End an attempt that has not come to an end."""
        if door in self._numbers:
            self._forget(door).close()

    def stream(self, door: Endpoint) -> Stream:
        """The connection behind a door that opened; ``leave`` when done with it."""
        return Stream(self._opened.pop(door))

    def leave(self, door: Endpoint) -> None:
        """Say that the connection is closed: the device has a free socket again."""
        self._left.append(door)
        os.eventfd_write(self._bell, 1)

    def close(self) -> None:
        """Close everything."""
        for _, sock in self._attempts.values():
            sock.close()
        for sock in self._opened.values():
            sock.close()
        self._epoll.close()
        os.close(self._bell)
