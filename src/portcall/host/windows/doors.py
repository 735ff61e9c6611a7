"""Connecting to many TCP ports at once: the medium of ``DoorKnock``."""

from __future__ import annotations

import asyncio
import os
import socket
from collections.abc import Iterator
from time import monotonic

from portcall.core.talk.conversation import Endpoint
from portcall.core.talk.door_knock import DoorState, Knock
from portcall.host.medium import MOST_AT_ONCE
from portcall.host.vantage import Vantage
from portcall.host.windows.bell import Bell
from portcall.host.windows.sockets import CONNECTING, REFUSED
from portcall.host.windows.streams import Stream, open_socket


class Doors:
    """Connections being made from one vantage; the event loop waits for each of them."""

    def __init__(self, vantage: Vantage) -> None:
        self._vantage = vantage
        self._loop = asyncio.get_running_loop()
        self._bell: Bell[Knock] = Bell()
        self._attempts: dict[Endpoint, socket.socket] = {}
        self._opened: dict[Endpoint, socket.socket] = {}

    def fileno(self) -> int:
        """Readable when an attempt has come to an end."""
        return self._bell.fileno()

    def send(self, packet: Knock) -> None:
        """Begin to connect. Raises OSError when there is no way there."""
        door = packet.door
        sock = open_socket(self._vantage, door.address)
        try:
            code = sock.connect_ex((str(door.address), door.port))
            if code not in CONNECTING:
                raise OSError(code, os.strerror(code))
            self._loop.add_writer(sock, self._ended, door)
        except BaseException:
            sock.close()
            raise
        self._attempts[door] = sock

    def receive(self) -> Iterator[tuple[Knock, float]]:
        """Attempts that have come to an end, and doors that were left."""
        for knock in self._bell.take(MOST_AT_ONCE):
            yield knock, monotonic()

    def _ended(self, door: Endpoint) -> None:
        sock = self._attempts.pop(door)
        self._loop.remove_writer(sock)
        code = sock.getsockopt(socket.SOL_SOCKET, socket.SO_ERROR)
        if code == 0:
            self._opened[door] = sock
            self._bell.put(Knock(door, DoorState.OPEN))
            return
        sock.close()
        state = DoorState.REFUSED if code in REFUSED else DoorState.SILENT
        self._bell.put(Knock(door, state))

    def give_up(self, door: Endpoint) -> None:
        """End an attempt that has not come to an end."""
        sock = self._attempts.pop(door, None)
        if sock is not None:
            self._loop.remove_writer(sock)
            sock.close()

    def stream(self, door: Endpoint) -> Stream:
        """The connection behind a door that opened; ``leave`` when done with it."""
        return Stream(self._opened.pop(door))

    def leave(self, door: Endpoint) -> None:
        """Say that the connection is closed: the device has a free socket again."""
        self._bell.put(Knock(door, DoorState.CLOSED))

    def close(self) -> None:
        """Close everything."""
        for door in tuple(self._attempts):
            self.give_up(door)
        for sock in self._opened.values():
            sock.close()
        self._bell.close()
