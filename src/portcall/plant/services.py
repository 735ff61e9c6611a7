"""The services of simulated devices by TCP, once they have an address."""

from __future__ import annotations

import asyncio
import html
import re
import socket
import ssl
from collections.abc import Awaitable, Callable
from contextlib import closing, suppress
from importlib.resources import as_file, files
from ipaddress import IPv4Address
from urllib.parse import parse_qs

from portcall.core.address import UNSPECIFIED, AddressError, parse_interface
from portcall.core.find import web_page
from portcall.core.part_path import TOP, PartKind
from portcall.core.wire import cip, modbus, opcua
from portcall.core.wire.octets import Malformed
from portcall.plant.cip_device import cip_reply
from portcall.plant.memory import Memory, Verdict
from portcall.plant.parts import NO_ANSWER_BEHIND, answer, ask_unit
from portcall.plant.scenario import PartEntry, Speaks

_REQUEST_WAIT = 10.0
_CONVERSATION_WAIT = 600.0
"""Seconds that a connection lasts at most; one with a serial line behind it, much longer."""
_LONGEST_HEAD = 8192
_CHANNEL = opcua.Channel(0xCA, 1)


async def _serve_cip(
    memory: Memory,
    reader: asyncio.StreamReader,
    writer: asyncio.StreamWriter,
) -> None:
    """Answer CIP until the other side ends it or says nonsense."""
    while True:
        head = await reader.readexactly(cip.HEADER_LENGTH)
        length = cip.whole_length(head) or 0
        rest = await reader.readexactly(length - cip.HEADER_LENGTH)
        reply = cip_reply(memory, head + rest)
        if reply is None:
            return
        writer.write(reply)
        await writer.drain()


async def _serve_modbus(
    memory: Memory,
    reader: asyncio.StreamReader,
    writer: asyncio.StreamWriter,
) -> None:
    """Answer device identification; as a gateway, for the units behind it alone."""
    while True:
        head = await reader.readexactly(modbus.HEADER_LENGTH)
        length = modbus.whole_length(head) or 0
        asked = modbus.parse(head + await reader.readexactly(length - modbus.HEADER_LENGTH))
        units = memory.entry.modbus_units
        if any(part.path.kind is PartKind.UNIT for part in memory.entry.parts):
            pdu = await ask_unit(memory, asked.unit, asked.pdu)
        elif units and asked.unit not in units:
            pdu = bytes((asked.pdu[0] | 0x80, NO_ANSWER_BEHIND))
        else:
            pdu = answer(PartEntry(TOP, memory.entry.nameplate), asked.pdu)
        writer.write(modbus.encode(modbus.ModbusMessage(asked.transaction, asked.unit, pdu)))
        await writer.drain()


async def _serve_opcua(
    memory: Memory,
    reader: asyncio.StreamReader,
    writer: asyncio.StreamWriter,
) -> None:
    """Hello, a channel without security, the one endpoint."""
    endpoint = f"opc.tcp://{_own(memory)}:{opcua.PORT}"
    entry, name = memory.entry, memory.host_name
    said = opcua.Application(
        f"urn:tern-point:{name}".encode(),
        entry.nameplate.product.encode(),
        name.encode(),
        endpoint.encode(),
    )
    replies = {
        b"HEL": opcua.encode_acknowledge(),
        b"OPN": opcua.encode_opened(_CHANNEL),
        b"MSG": opcua.encode_endpoints(_CHANNEL, said),
    }
    while True:
        head = await reader.readexactly(opcua.HEADER_LENGTH)
        await reader.readexactly((opcua.whole_length(head) or 0) - opcua.HEADER_LENGTH)
        reply = replies.get(opcua.parse_kind(head))
        if reply is None:
            return
        writer.write(reply)
        await writer.drain()


async def _serve_page(
    memory: Memory,
    reader: asyncio.StreamReader,
    writer: asyncio.StreamWriter,
) -> None:
    """Show the device's page, whatever was asked for, and close (RFC 9112 §9.6).

    What its form sends sets the address, and the device restarts with that.
    """
    head = await reader.readuntil(b"\r\n\r\n")
    secured = writer.get_extra_info("sslcontext") is not None
    if Speaks.SECURE_WEB in memory.entry.speaks and not secured:
        writer.write(
            f"HTTP/1.1 301 Moved Permanently\r\nLocation: https://{_own(memory)}/\r\n"
            "Content-Length: 0\r\nConnection: close\r\n\r\n".encode()
        )
        await writer.drain()
        return
    if head.startswith(b"POST "):
        said, restarts = await _take_form(memory, head, reader)
    else:
        said, restarts = "", False
    page = _page(memory, said).encode()
    answer = (
        "HTTP/1.1 200 OK\r\nContent-Type: text/html; charset=utf-8\r\n"
        f"Content-Length: {len(page)}\r\nConnection: close\r\n\r\n"
    )
    writer.write(answer.encode() + page)
    await writer.drain()
    if restarts:
        memory.restart()


async def _take_form(memory: Memory, head: bytes, reader: asyncio.StreamReader) -> tuple[str, bool]:
    """The page after a form was sent, and whether the device restarts with its values."""
    length = re.search(rb"(?i)\r\ncontent-length: *(\d{1,4})\r\n", head)
    body = await reader.readexactly(int(length[1])) if length else b""
    values = {name: entries[0] for name, entries in parse_qs(body.decode("latin-1")).items()}
    try:
        interface = parse_interface(f"{values.get('address', '')}/{values.get('mask', '')}")
    except AddressError as error:
        return str(error), False
    if memory.set_address(interface, None, at_once=False) is not Verdict.DONE:
        return "not allowed", False
    return "saved, restarting", True


def _page(memory: Memory, said: str) -> str:
    plate = memory.entry.nameplate
    rows = (
        ("Serial", f"{plate.serial:08X}"),
        ("Firmware", f"{plate.major}.{plate.minor:03d}"),
        ("MAC", str(memory.entry.mac)),
        ("Address", str(memory.interface)),
    )
    title = html.escape(plate.product)
    table = "".join(f"<tr><th>{name}</th><td>{html.escape(v)}</td></tr>" for name, v in rows)
    form = (
        '<form method="post"><input name="address"><input name="mask"><button>Save</button></form>'
    )
    return (
        f"<!doctype html><title>{title}</title><h1>{title}</h1><table>{table}</table>"
        f"{form}<p>{html.escape(said)}</p>\n"
    )


def _own(memory: Memory) -> IPv4Address:
    return memory.interface.ip if memory.interface else UNSPECIFIED


Service = Callable[[Memory, asyncio.StreamReader, asyncio.StreamWriter], Awaitable[None]]

SERVICES: dict[Speaks, tuple[int, Service]] = {
    Speaks.CIP: (cip.PORT, _serve_cip),
    Speaks.MODBUS: (modbus.PORT, _serve_modbus),
    Speaks.OPCUA: (opcua.PORT, _serve_opcua),
    Speaks.WEB: (web_page.PORT, _serve_page),
    Speaks.SECURE_WEB: (web_page.SECURE_PORT, _serve_page),
}


def listening_socket(port: int) -> socket.socket:
    """A TCP socket that listens in the calling thread's network namespace."""
    sock = socket.socket(socket.AF_INET, socket.SOCK_STREAM)
    sock.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    sock.bind(("0.0.0.0", port))
    sock.setblocking(False)
    return sock


async def start_service(spoken: Speaks, memory: Memory, sock: socket.socket) -> asyncio.Server:
    """Serve connections on a socket; a client that is slow, rude or gone ends only its own."""
    _, service = SERVICES[spoken]

    async def serve(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        with closing(writer):
            try:
                lasts = _CONVERSATION_WAIT if spoken is Speaks.MODBUS else _REQUEST_WAIT
                async with asyncio.timeout(lasts):
                    await service(memory, reader, writer)
            except (
                TimeoutError,
                OSError,
                Malformed,
                asyncio.IncompleteReadError,
                asyncio.LimitOverrunError,
            ):
                return
            except asyncio.CancelledError:
                # The device is switched off; asyncio's streams would print a traceback.
                return

    secure = _certificate() if spoken is Speaks.SECURE_WEB else None
    return await asyncio.start_server(serve, sock=sock, limit=_LONGEST_HEAD, ssl=secure)


async def start_greeter(sock: socket.socket) -> asyncio.Server:
    """Serve a greeting line of some other protocol, and take nothing that is said to it."""

    async def serve(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        with closing(writer), suppress(OSError, TimeoutError):
            writer.write(b"220 dryer line file service\r\n")
            await writer.drain()
            async with asyncio.timeout(_REQUEST_WAIT):
                while await reader.read(_LONGEST_HEAD):
                    writer.write(b"500 what was that\r\n")
                    await writer.drain()

    return await asyncio.start_server(serve, sock=sock)


def _certificate() -> ssl.SSLContext:
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    with as_file(files("portcall.plant") / "scenarios" / "device.pem") as path:
        context.load_cert_chain(path)
    return context
