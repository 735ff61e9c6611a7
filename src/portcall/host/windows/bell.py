"""Waking an event loop of sockets from another thread, and holding what that thread has to tell."""

from __future__ import annotations

import socket
from collections import deque
from collections.abc import Iterator
from contextlib import suppress
from typing import Generic, TypeVar

T = TypeVar("T")

_MOST_RINGS = 4096
_MOST_HELD = 65_536


class Bell(Generic[T]):
    """Readable when something was put in; threads put in, the event loop takes out."""

    def __init__(self) -> None:
        self._rings, self._heard = socket.socketpair()
        self._rings.setblocking(False)
        self._heard.setblocking(False)
        self._told: deque[T] = deque()

    def fileno(self) -> int:
        """The descriptor that becomes readable."""
        return self._heard.fileno()

    def put(self, told: T) -> None:
        """Put something in, from any thread; where too much waits it is lost, as in a socket."""
        if len(self._told) >= _MOST_HELD:
            return
        self._told.append(told)
        # Where there is no room for one more ring, enough of them are heard already.
        with suppress(OSError):
            self._rings.send(b"\0")

    def take(self, most: int) -> Iterator[T]:
        """What was put in, the first of it first, at most so many."""
        with suppress(OSError):
            self._heard.recv(_MOST_RINGS)
        for _ in range(most):
            if not self._told:
                return
            yield self._told.popleft()
        if self._told:
            with suppress(OSError):
                self._rings.send(b"\0")

    def close(self) -> None:
        """Give both sockets back."""
        self._rings.close()
        self._heard.close()
