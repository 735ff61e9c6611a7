"""What simulated devices offer once they have an address: CIP identity and a web page."""

from __future__ import annotations

import asyncio
import html
import socket
from collections.abc import Awaitable, Callable
from contextlib import closing
from ipaddress import IPv4Interface

from portcall.core.conversation import Actions, Conversation, Datagram, Send
from portcall.core.wire import cip
from portcall.core.wire.octets import Malformed
from portcall.plant.scenario import DeviceEntry

WEB_PORT = 80
_REQUEST_WAIT = 10.0
_LONGEST_HEAD = 8192
_OPERATIONAL = 3
"""CIP volume 1 §5-2.2.1, state of the identity object."""


def identity_reply(entry: DeviceEntry, interface: IPv4Interface, request: bytes) -> bytes | None:
    """The answer to a CIP encapsulation message; None to what this device does not answer."""
    try:
        asked = cip.parse(request)
    except Malformed:
        return None
    if asked.command != cip.LIST_IDENTITY:
        return None
    plate = entry.nameplate
    identity = cip.Identity(
        interface.ip,
        cip.PORT,
        plate.vendor,
        plate.device_type,
        plate.product_code,
        plate.major,
        plate.minor,
        0,
        plate.serial,
        plate.product.encode("latin-1", "replace"),
        _OPERATIONAL,
    )
    return cip.encode_identity(identity, asked.context)


class IdentityResponder(Conversation[Datagram, None]):
    """Answers List Identity over UDP."""

    def __init__(self, entry: DeviceEntry, interface: IPv4Interface) -> None:
        self._entry = entry
        self._interface = interface

    def heard(self, packet: Datagram, now: float) -> Actions[Datagram, None]:
        """Answer the one who asked."""
        reply = identity_reply(self._entry, self._interface, packet.payload)
        if reply is not None:
            yield Send(Datagram(packet.peer, reply))


async def serve_identity(
    entry: DeviceEntry,
    interface: IPv4Interface,
    reader: asyncio.StreamReader,
    writer: asyncio.StreamWriter,
) -> None:
    """Answer List Identity over one TCP connection, as often as it is asked."""
    while True:
        head = await reader.readexactly(cip.HEADER_LENGTH)
        rest = await reader.readexactly(cip.whole_length(head) - cip.HEADER_LENGTH)
        reply = identity_reply(entry, interface, head + rest)
        if reply is None:
            return
        writer.write(reply)
        await writer.drain()


async def serve_page(
    entry: DeviceEntry,
    interface: IPv4Interface,
    reader: asyncio.StreamReader,
    writer: asyncio.StreamWriter,
) -> None:
    """Show the device's page, whatever was asked for, and close (RFC 9112 §9.6)."""
    await reader.readuntil(b"\r\n\r\n")
    plate = entry.nameplate
    rows = (
        ("Serial", f"{plate.serial:08X}"),
        ("Firmware", f"{plate.major}.{plate.minor:03d}"),
        ("MAC", str(entry.mac)),
        ("Address", str(interface)),
    )
    title = html.escape(plate.product)
    table = "".join(f"<tr><th>{name}</th><td>{html.escape(v)}</td></tr>" for name, v in rows)
    page = (
        f"<!doctype html><title>{title}</title><h1>{title}</h1><table>{table}</table>\n"
    ).encode()
    head = (
        "HTTP/1.1 200 OK\r\nContent-Type: text/html; charset=utf-8\r\n"
        f"Content-Length: {len(page)}\r\nConnection: close\r\n\r\n"
    )
    writer.write(head.encode() + page)
    await writer.drain()


Service = Callable[
    [DeviceEntry, IPv4Interface, asyncio.StreamReader, asyncio.StreamWriter], Awaitable[None]
]


def listening_socket(port: int) -> socket.socket:
    """A TCP socket that listens in the calling thread's network namespace."""
    sock = socket.socket(socket.AF_INET, socket.SOCK_STREAM)
    sock.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    sock.bind(("0.0.0.0", port))
    sock.setblocking(False)
    return sock


async def start_service(
    service: Service, entry: DeviceEntry, interface: IPv4Interface, sock: socket.socket
) -> asyncio.Server:
    """Serve connections on a socket; a client that is slow, rude or gone ends only its own."""

    async def serve(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        with closing(writer):
            try:
                async with asyncio.timeout(_REQUEST_WAIT):
                    await service(entry, interface, reader, writer)
            except (
                TimeoutError,
                OSError,
                Malformed,
                asyncio.IncompleteReadError,
                asyncio.LimitOverrunError,
            ):
                return

    return await asyncio.start_server(serve, sock=sock, limit=_LONGEST_HEAD)
