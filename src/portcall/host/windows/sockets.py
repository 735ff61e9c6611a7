"""Which of an adapter's addresses a socket is bound to: it sends by the adapter that has it."""

from __future__ import annotations

import errno
import socket
from ipaddress import IPv4Address

from portcall.core.finding import Line
from portcall.core.trouble import NotPossibleHere
from portcall.host.windows import tables

_WOULD_BLOCK = 10035
"""WSAEWOULDBLOCK."""


def own_address(adapter: str, target: IPv4Address | None = None) -> IPv4Address | None:
    """The adapter's address in whose subnet a target is, else its first; None without any."""
    here = (each for each in tables.adapters() if each.name == adapter)
    own = [address.interface for each in here for address in each.addresses]
    near = [each.ip for each in own if target is not None and target in each.network]
    return next(iter([*near, *(each.ip for each in own)]), None)


def bind_to_adapter(
    sock: socket.socket, adapter: str, target: IPv4Address | None = None, port: int = 0
) -> None:
    """Send by this adapter, and hear what comes to it. Raises OSError; NotPossibleHere without an
    address there."""
    own = own_address(adapter, target)
    if own is None:
        raise NotPossibleHere(
            f"{adapter} has no address, and without one nothing can be asked from it by IPv4",
            Line("match", "ADDRESS"),
        )
    sock.bind((str(own), port))


CONNECTING = frozenset((0, errno.EWOULDBLOCK, errno.EINPROGRESS, _WOULD_BLOCK))
"""What a socket that does not block says when it begins to connect."""

REFUSED = (errno.ECONNREFUSED, 10061)
"""What it says when nobody listens there; the second is WSAECONNREFUSED."""
