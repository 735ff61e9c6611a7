"""What simulated devices offer once they have an address: CIP, a web page, a service port."""

from __future__ import annotations

import asyncio
import html
import socket
from collections.abc import Awaitable, Callable
from contextlib import closing
from dataclasses import replace
from ipaddress import IPv4Interface

from portcall.core.address import UNSPECIFIED
from portcall.core.assign.server import AddressServer, Event
from portcall.core.conversation import Actions, Conversation, Datagram, Frame, Send
from portcall.core.plan import Plan, PlannedDevice
from portcall.core.wire import bootp, cip, cip_message, udp
from portcall.core.wire.octets import Malformed
from portcall.plant.scenario import DeviceEntry

WEB_PORT = 80
_REQUEST_WAIT = 10.0
_LONGEST_HEAD = 8192
_SESSION = 0x0000CA11
"""One session is enough for a device that is asked by one workstation at a time."""

_OPERATIONAL = 3
"""CIP volume 1 §5-2.2.1, state of the identity object."""


def cip_reply(entry: DeviceEntry, interface: IPv4Interface, request: bytes) -> bytes | None:
    """The answer to a CIP encapsulation message; None to what this device does not answer."""
    try:
        asked = cip.parse(request)
        if asked.command == cip.LIST_IDENTITY:
            return cip.encode_identity(_identity(entry, interface), asked.context)
        if asked.command == cip_message.REGISTER_SESSION:
            return cip.encode(replace(asked, session=_SESSION))
        if asked.command == cip_message.SEND_RR_DATA and asked.session == _SESSION:
            wanted = cip_message.parse_request(cip_message.parse_unconnected(asked))
            answer = cip_message.encode_response(_attribute(wanted, entry, interface))
            return cip_message.encode_unconnected(_SESSION, answer, asked.context)
    except Malformed:
        pass
    return None


def _identity(entry: DeviceEntry, interface: IPv4Interface) -> cip.Identity:
    plate = entry.nameplate
    return cip.Identity(
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


def _attribute(
    wanted: cip_message.AttributeRequest, entry: DeviceEntry, interface: IPv4Interface
) -> cip_message.Response:
    if wanted.service != cip_message.GET_ATTRIBUTE_SINGLE:
        return cip_message.Response(wanted.service, cip_message.SERVICE_NOT_SUPPORTED, b"")
    place = (wanted.class_number, wanted.instance, wanted.attribute)
    if place != (cip_message.TCP_IP_INTERFACE, 1, cip_message.INTERFACE_CONFIGURATION):
        return cip_message.Response(wanted.service, cip_message.PATH_UNKNOWN, b"")
    configuration = cip_message.InterfaceConfiguration(
        interface.ip, interface.netmask, entry.gateway or UNSPECIFIED, UNSPECIFIED, UNSPECIFIED
    )
    data = cip_message.encode_configuration(configuration)
    return cip_message.Response(wanted.service, cip_message.SUCCESS, data)


class IdentityResponder(Conversation[Datagram, None]):
    """Answers List Identity over UDP."""

    def __init__(self, entry: DeviceEntry, interface: IPv4Interface) -> None:
        self._entry = entry
        self._interface = interface

    def heard(self, packet: Datagram, now: float) -> Actions[Datagram, None]:
        """Answer the one who asked."""
        reply = cip_reply(self._entry, self._interface, packet.payload)
        if reply is not None:
            yield Send(Datagram(packet.peer, reply))


class ServicePort(Conversation[Frame, Event]):
    """Hands one address by DHCP to the first who asks, as some machines do at their service port.

    It is the tool's own address server with a plan of one row, made when the MAC is known.
    """

    LEASE_SECONDS = 600

    def __init__(self, entry: DeviceEntry, gives: IPv4Interface, own: IPv4Interface) -> None:
        self._entry = entry
        self._gives = gives
        self._own = own
        self._server: AddressServer | None = None

    def heard(self, packet: Frame, now: float) -> Actions[Frame, Event]:
        """The first request decides whose address it is."""
        if self._server is None:
            try:
                frame = udp.parse_frame(packet.data)
                asked = bootp.parse(frame.datagram.payload)
            except Malformed:
                return
            if frame.datagram.destination_port != bootp.SERVER_PORT:
                return
            plan = Plan((PlannedDevice("workstation", self._gives, asked.mac),))
            self._server = AddressServer(self._entry.mac, (self._own,), plan, self.LEASE_SECONDS)
            yield from self._server.begin(now)
        yield from self._server.heard(packet, now)
        self.wake_at = self._server.wake_at

    def woke(self, now: float) -> Actions[Frame, Event]:
        """What its server wanted to be woken for."""
        if self._server is not None:
            yield from self._server.woke(now)
            self.wake_at = self._server.wake_at


async def serve_cip(
    entry: DeviceEntry,
    interface: IPv4Interface,
    reader: asyncio.StreamReader,
    writer: asyncio.StreamWriter,
) -> None:
    """Answer CIP over one TCP connection, until the other side ends it or says nonsense."""
    while True:
        head = await reader.readexactly(cip.HEADER_LENGTH)
        rest = await reader.readexactly(cip.whole_length(head) - cip.HEADER_LENGTH)
        reply = cip_reply(entry, interface, head + rest)
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
