"""TLS over an open connection, for reading what a device's page says.

Nothing is trusted because of it and nothing secret is sent. Devices sign their own certificates,
and old ones speak versions that others have given up, so neither is checked.
"""

from __future__ import annotations

import asyncio
import socket
import ssl
import warnings

from portcall.core.talk.conversation import StreamBytes
from portcall.host.streams import Stream

HANDSHAKE_WAIT = 3.0
"""Seconds for the handshake: a small device computes for a second or two."""

_PIECE = 16384


class SecureStream(Stream):
    """A connection whose bytes are those inside of TLS."""

    _socket: ssl.SSLSocket

    @classmethod
    async def over(cls, plain: Stream) -> SecureStream:
        """Shake hands; the plain stream is not to be used any more. OSError or TimeoutError."""
        bare = socket.socket(fileno=plain._socket.detach())
        bare.setblocking(False)
        wrapped = _context().wrap_socket(bare, do_handshake_on_connect=False)
        try:
            async with asyncio.timeout(HANDSHAKE_WAIT):
                await _shake(wrapped)
        except BaseException:
            wrapped.close()
            raise
        return cls(wrapped)

    def _take(self) -> bytes:
        try:
            return self._socket.recv(_PIECE)
        except (ssl.SSLWantReadError, ssl.SSLWantWriteError):
            raise BlockingIOError from None

    def send(self, packet: StreamBytes) -> None:
        """Send bytes. Raises OSError when the other side takes no more."""
        super().send(packet)


def _context() -> ssl.SSLContext:
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
    context.check_hostname = False
    context.verify_mode = ssl.CERT_NONE
    with warnings.catch_warnings():
        warnings.simplefilter("ignore", DeprecationWarning)
        context.minimum_version = ssl.TLSVersion.TLSv1
    context.set_ciphers("ALL:@SECLEVEL=0")
    return context


async def _shake(wrapped: ssl.SSLSocket) -> None:
    loop = asyncio.get_running_loop()
    while True:
        try:
            wrapped.do_handshake()
            return
        except ssl.SSLWantReadError:
            add, remove = loop.add_reader, loop.remove_reader
        except ssl.SSLWantWriteError:
            add, remove = loop.add_writer, loop.remove_writer
        ready = asyncio.Event()
        add(wrapped.fileno(), ready.set)
        try:
            await ready.wait()
        finally:
            remove(wrapped.fileno())
