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


class HandshakeFailed(OSError):
    """TLS did not come about; the text says why.

    ``by_tls``: the other side said so by TLS itself, so that it speaks it.
    """

    def __init__(self, words: str, by_tls: bool = False) -> None:
        super().__init__(words)
        self.by_tls = by_tls


HANDSHAKE_WAIT = 3.0
"""Seconds for the handshake: a small device computes for a second or two."""

_PIECE = 16384


class SecureStream(Stream):
    """A connection whose bytes are those inside of TLS."""

    connected: ssl.SSLSocket

    @classmethod
    async def over(cls, plain: Stream) -> SecureStream:
        """Shake hands; the plain stream is not to be used any more. Raises HandshakeFailed."""
        bare = socket.socket(fileno=plain.connected.detach())
        bare.setblocking(False)
        wrapped = _context().wrap_socket(bare, do_handshake_on_connect=False)
        try:
            async with asyncio.timeout(HANDSHAKE_WAIT):
                await _shake(wrapped)
        except BaseException as error:
            wrapped.close()
            if isinstance(error, ssl.SSLError):
                by_tls = "ALERT" in (error.reason or "") or error.reason in _OTHER_VERSIONS
                raise HandshakeFailed(_words(error), by_tls) from None
            if isinstance(error, TimeoutError):
                raise HandshakeFailed(f"no answer within {HANDSHAKE_WAIT:.0f} s") from None
            if isinstance(error, OSError):
                raise HandshakeFailed("the device ends the connection") from None
            raise
        return cls(wrapped)

    def _take(self) -> bytes:
        try:
            return self.connected.recv(_PIECE)
        except (ssl.SSLWantReadError, ssl.SSLWantWriteError):
            raise BlockingIOError from None

    def send(self, packet: StreamBytes) -> None:
        """Send bytes. Raises OSError when the other side takes no more."""
        super().send(packet)


_LEGACY_SERVER_CONNECT, _UNSAFE_LEGACY_RENEGOTIATION = 1 << 2, 1 << 18
"""SSL_OP_… of OpenSSL; Python's module does not have both."""

_OTHER_VERSIONS = ("UNSUPPORTED_PROTOCOL", "NO_PROTOCOLS_AVAILABLE")

_WORDS = {
    "WRONG_VERSION_NUMBER": "what answers is not TLS",
    "HTTP_REQUEST": "what answers is a web page without TLS",
    "UNSUPPORTED_PROTOCOL": "it speaks only versions that this computer's library does not",
    "NO_PROTOCOLS_AVAILABLE": "it speaks only versions that this computer's library does not",
    "SSLV3_ALERT_HANDSHAKE_FAILURE": "the device finds no cipher that both have",
    "SSL/TLS_ALERT_HANDSHAKE_FAILURE": "the device finds no cipher that both have",
    "TLSV13_ALERT_CERTIFICATE_REQUIRED": "the device wants a certificate of this computer",
    "UNEXPECTED_EOF_WHILE_READING": "the device ends the connection",
}


def _words(error: ssl.SSLError) -> str:
    reason = error.reason or ""
    return _WORDS.get(reason, reason.lower().replace("_", " ") or "the device ends the connection")


def _context() -> ssl.SSLContext:
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
    context.check_hostname = False
    context.verify_mode = ssl.CERT_NONE
    with warnings.catch_warnings():
        warnings.simplefilter("ignore", DeprecationWarning)
        context.minimum_version = ssl.TLSVersion.TLSv1
    context.set_ciphers("ALL:@SECLEVEL=0")
    # Servers from before RFC 5746 renegotiate in the old way, which could be abused for secrets.
    context.options |= _LEGACY_SERVER_CONNECT | _UNSAFE_LEGACY_RENEGOTIATION
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
