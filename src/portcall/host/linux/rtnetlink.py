"""Linux rtnetlink (rtnetlink(7), RFC 3549): reading and changing addresses and routes.

Written by hand for what a command needs before it can say its first word: adapters, addresses,
routes, and the kernel's own events. Importing a general netlink library takes longer than ``match``
may take in all; ``cables`` uses one to build the practice plant, where that does not matter.

Messages are kept as ``Message``: the fixed part of their kind and the attributes as bytes, so that
what was read can be put back exactly as it was.
"""

from __future__ import annotations

import os
import socket
import struct
from collections.abc import Iterator
from dataclasses import dataclass
from enum import IntEnum

_HEADER = struct.Struct("=IHHII")
_ATTRIBUTE = struct.Struct("=HH")
_RECEIVE = 1 << 17
_WAIT = 5.0

_ERROR, _DONE = 2, 3
_REQUEST, _ACK, _DUMP = 0x1, 0x4, 0x300
_REPLACE, _EXCLUSIVE, _CREATE = 0x100, 0x200, 0x400
_TYPE_MASK = 0x3FFF
"""Without the bits for nested and network order (linux/netlink.h)."""


class MessageKind(IntEnum):
    """Message types (linux/rtnetlink.h)."""

    NEW_LINK = 16
    DELETE_LINK = 17
    GET_LINK = 18
    NEW_ADDRESS = 20
    DELETE_ADDRESS = 21
    GET_ADDRESS = 22
    NEW_ROUTE = 24
    DELETE_ROUTE = 25
    GET_ROUTE = 26
    NEW_NEIGHBOUR = 28
    DELETE_NEIGHBOUR = 29
    GET_NEIGHBOUR = 30


_FIXED = {
    # struct ifinfomsg, ifaddrmsg, rtmsg, ndmsg: how long the fixed part of a message is.
    MessageKind.NEW_LINK: 16,
    MessageKind.DELETE_LINK: 16,
    MessageKind.NEW_ADDRESS: 8,
    MessageKind.DELETE_ADDRESS: 8,
    MessageKind.NEW_ROUTE: 12,
    MessageKind.DELETE_ROUTE: 12,
    MessageKind.NEW_NEIGHBOUR: 12,
}


class LinkAttribute(IntEnum):
    """Attributes of a link (linux/if_link.h)."""

    ADDRESS = 1
    NAME = 3
    MTU = 4
    MASTER = 10
    INFO = 18
    STATISTICS = 23
    LOSSES = 48


class AddressAttribute(IntEnum):
    """Attributes of an address (linux/if_addr.h)."""

    ADDRESS = 1
    LOCAL = 2
    LABEL = 3
    BROADCAST = 4
    CACHE = 6
    FLAGS = 8
    PRIORITY = 9


_CREATING = (
    MessageKind.NEW_LINK,
    MessageKind.NEW_ADDRESS,
    MessageKind.NEW_ROUTE,
    MessageKind.NEW_NEIGHBOUR,
)


class RouteAttribute(IntEnum):
    """Attributes of a route (linux/rtnetlink.h)."""

    DESTINATION = 1
    OUT = 4
    GATEWAY = 5
    PRIORITY = 6
    SOURCE = 7
    METRICS = 8
    MULTIPATH = 9
    TABLE = 15
    PROTOCOL = 27
    TO_PORT = 29


class NeighbourAttribute(IntEnum):
    """Attributes of a neighbour (linux/neighbour.h)."""

    ADDRESS = 1
    MAC = 2


LINK_EVENTS, ADDRESS_EVENTS, ROUTE_EVENTS = 0x1, 0x10, 0x40
"""Multicast groups RTMGRP_LINK, RTMGRP_IPV4_IFADDR, RTMGRP_IPV4_ROUTE."""


@dataclass(frozen=True, slots=True)
class Message:
    """One message: its fixed part, and its attributes in the kernel's order."""

    kind: MessageKind
    fixed: bytes
    attributes: tuple[tuple[int, bytes], ...] = ()

    def get(self, number: int) -> bytes | None:
        """The data of an attribute, or None."""
        return next((data for found, data in self.attributes if found == number), None)

    def number(self, attribute: int) -> int | None:
        """An attribute that is a number in this computer's byte order, or None."""
        data = self.get(attribute)
        return None if data is None else int.from_bytes(data, "little")

    def text(self, attribute: int) -> str | None:
        """An attribute that is text, or None."""
        data = self.get(attribute)
        return None if data is None else data.rstrip(b"\0").decode("utf-8", "replace")


def attributes(data: bytes) -> tuple[tuple[int, bytes], ...]:
    """Take attributes apart; what does not fit any more is left out."""
    found = []
    place = 0
    while place + 4 <= len(data):
        length, number = _ATTRIBUTE.unpack_from(data, place)
        if length < 4 or place + length > len(data):
            break
        found.append((number & _TYPE_MASK, data[place + 4 : place + length]))
        place += (length + 3) & ~3
    return tuple(found)


def pack(found: tuple[tuple[int, bytes], ...]) -> bytes:
    """Put attributes together."""
    return b"".join(
        (_ATTRIBUTE.pack(4 + len(data), number) + data).ljust((len(data) + 7) & ~3, b"\0")
        for number, data in found
    )


def _messages(data: bytes) -> Iterator[tuple[int, int, bytes]]:
    """Type, sequence number and body of each message in a datagram."""
    place = 0
    while place + _HEADER.size <= len(data):
        length, kind, _, sequence, _ = _HEADER.unpack_from(data, place)
        if length < _HEADER.size or place + length > len(data):
            return
        yield kind, sequence, data[place + _HEADER.size : place + length]
        place += (length + 3) & ~3


def _read(kind: int, body: bytes) -> Message | None:
    try:
        known = MessageKind(kind)
        fixed = _FIXED[known]
    except (ValueError, KeyError):
        return None
    return Message(known, body[:fixed], attributes(body[fixed:]))


class Netlink:
    """A socket to the kernel, for requests or for events; of the calling thread's namespace."""

    def __init__(self, groups: int = 0) -> None:
        self._socket = socket.socket(socket.AF_NETLINK, socket.SOCK_RAW, socket.NETLINK_ROUTE)
        self._socket.bind((0, groups))
        # Answers are waited for; events are there or not.
        self._socket.settimeout(0.0 if groups else _WAIT)
        self._sequence = 0

    def __enter__(self) -> Netlink:
        return self

    def __exit__(self, *_: object) -> None:
        self._socket.close()

    def fileno(self) -> int:
        """The socket's descriptor, readable when there are events."""
        return self._socket.fileno()

    def dump(self, kind: MessageKind, fixed: bytes) -> tuple[Message, ...]:
        """All objects of a kind. Raises OSError as the kernel says."""
        return self._ask(kind, _REQUEST | _DUMP, fixed)

    def get(self, kind: MessageKind, fixed: bytes, *found: tuple[int, bytes]) -> Message:
        """One object. Raises OSError as the kernel says."""
        answer = self._ask(kind, _REQUEST, fixed + pack(found))
        if not answer:
            raise OSError("the kernel gave no answer")
        return answer[0]

    def put(self, message: Message, again: bool = False) -> None:
        """Create (NEW_…) or delete (DELETE_…) an object. Raises OSError as the kernel says.

        ``again``: one that is there already is changed.
        """
        flags = _REQUEST | _ACK
        if message.kind in _CREATING:
            flags |= _CREATE | (_REPLACE if again else _EXCLUSIVE)
        self._ask(message.kind, flags, message.fixed + pack(message.attributes))

    def events(self) -> tuple[Message, ...]:
        """The events since the last call."""
        found: list[Message] = []
        while True:
            try:
                data = self._socket.recv(_RECEIVE)
            except BlockingIOError:
                return tuple(found)
            except OSError:
                # ENOBUFS: the kernel had more to tell than there was room for; the caller reads
                # everything anew.
                return tuple(found)
            for kind, _, body in _messages(data):
                message = _read(kind, body)
                if message is not None:
                    found.append(message)

    def _ask(self, kind: MessageKind, flags: int, body: bytes) -> tuple[Message, ...]:
        self._sequence += 1
        length = _HEADER.size + len(body)
        self._socket.send(_HEADER.pack(length, kind, flags, self._sequence, 0) + body)
        found: list[Message] = []
        while True:
            for answer, sequence, content in _messages(self._socket.recv(_RECEIVE)):
                if sequence != self._sequence:
                    continue
                if answer == _DONE:
                    return tuple(found)
                if answer == _ERROR:
                    number = -int.from_bytes(content[:4], "little", signed=True)
                    if number:
                        raise OSError(number, os.strerror(number))
                    return tuple(found)
                message = _read(answer, content)
                if message is not None:
                    found.append(message)
            if not flags & (_DUMP | _ACK):
                return tuple(found)
