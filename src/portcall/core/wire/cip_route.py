"""A CIP request that goes on from the device: through its backplane, or by another port of it.

The CIP Networks Library, volume 1: §3-5.5.4 Unconnected_Send of the connection manager, §3-5.6 what
is answered when it does not arrive, and §C-1.4.1 port segments. Volume 2 §3-3.7: a link address on
EtherNet/IP is written as text.
"""

from __future__ import annotations

from ipaddress import IPv4Address
from typing import NamedTuple

from portcall.core.wire.cip_message import Request, parse_request
from portcall.core.wire.octets import Reader

UNCONNECTED_SEND = 0x52
CONNECTION_MANAGER = 0x06

BACKPLANE = 1
"""The port of a module that goes to its own rack."""

TIMED_OUT, NO_PORT, NO_LINK_ADDRESS, TO_ITSELF = 0x0204, 0x0311, 0x0312, 0x0318
"""Volume 1 §3-5.6, table of extended status codes: no answer in time; the device has no such port;
the port has no such address; the address is the device's own."""

_TICK, _TICKS = 7, 8
"""§3-5.5.1.3: 8 ticks of 128 ms: a second for the way there and back."""

_EXTENDED_PORT, _LONG_LINK = 0x0F, 0x10
_MOST_SEGMENTS = 4


class Hop(NamedTuple):
    """One step of a route: out of a port, to the slot or the address that is there."""

    port: int
    link: int | IPv4Address


Route = tuple[Hop, ...]


def encode_route(route: Route) -> bytes:
    """The port segments of a route, an even number of octets."""
    segments = b""
    for hop in route:
        if isinstance(hop.link, int):
            segments += bytes((hop.port, hop.link))
        else:
            text = str(hop.link).encode()
            padding = bytes(len(text) % 2)
            segments += bytes((_LONG_LINK | hop.port, len(text))) + text + padding
    return segments


def parse_route(data: bytes) -> Route:
    """Read port segments. Raises Malformed for other ones."""
    reader = Reader(data, "CIP route")
    hops: list[Hop] = []
    while reader.remaining and len(hops) < _MOST_SEGMENTS:
        segment = reader.u8()
        port = segment & 0x0F
        if segment & ~(_LONG_LINK | 0x0F) or port in (0, _EXTENDED_PORT):
            raise reader.wrong(f"segment {segment:#04x} is no port from 1 to 14")
        if not segment & _LONG_LINK:
            hops.append(Hop(port, reader.u8()))
            continue
        length = reader.u8()
        text = reader.take(length)
        reader.take(length % 2)
        try:
            hops.append(Hop(port, IPv4Address(text.decode("ascii"))))
        except ValueError:
            raise reader.wrong("link address is no IPv4 address") from None
    return tuple(hops)


def unconnected_send(message: bytes, route: Route) -> Request:
    """The request that has a message router request sent on by a route."""
    path = encode_route(route)
    data = b"".join(
        (
            bytes((_TICK, _TICKS)),
            len(message).to_bytes(2, "little"),
            message,
            bytes(len(message) % 2),
            bytes((len(path) // 2, 0)),
            path,
        )
    )
    return Request(CONNECTION_MANAGER, 1, None, UNCONNECTED_SEND, data)


def parse_unconnected_send(data: bytes) -> tuple[Request, Route]:
    """What is to be sent on, and by which route. Raises Malformed."""
    reader = Reader(data, "CIP Unconnected_Send")
    reader.take(2)
    length = reader.u16_little()
    message = reader.take(length)
    reader.take(length % 2)
    words = reader.u8()
    reader.u8()
    return parse_request(message), parse_route(reader.take(2 * words))
