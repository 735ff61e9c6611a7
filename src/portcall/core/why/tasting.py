"""What is behind a door that does not answer as its protocol should: what it does say.

For each port of the trade, the first thing that is said there, and whether an answer is of that
protocol.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass

from portcall.core.find import web_page
from portcall.core.talk.dialogue import Exchange, Script
from portcall.core.wire import cip, modbus, opcua
from portcall.core.wire.octets import Malformed

GREETING_WAIT, ANSWER_WAIT = 0.6, 1.5
"""Seconds: many programs greet before they are asked."""

_TLS_ALERT, _TLS_HANDSHAKE = 0x15, 0x16
"""RFC 8446 §5.1, ContentType."""

_ASK_WHO = b"GET / HTTP/1.0\r\n\r\n"


@dataclass(frozen=True, slots=True)
class Protocol:
    """How a protocol is begun, and how its answers are told from others: Malformed, or False."""

    request: bytes
    is_spoken: Callable[[bytes], object]


def _tls(reply: bytes) -> bool:
    return reply[0] in (_TLS_ALERT, _TLS_HANDSHAKE)


def _opcua(reply: bytes) -> bool:
    return opcua.parse_kind(reply) in (b"ACK", b"ERR")


_MODBUS = modbus.encode(
    modbus.ModbusMessage(1, 1, modbus.encode_identification_request(modbus.ReadCode.BASIC))
)

PROTOCOLS: Mapping[int, Protocol] = {
    cip.PORT: Protocol(cip.encode_list_identity(), cip.parse),
    modbus.PORT: Protocol(_MODBUS, modbus.parse),
    opcua.PORT: Protocol(opcua.encode_hello(b"opc.tcp://device"), _opcua),
    web_page.PORT: Protocol(_ASK_WHO, web_page.read_page),
    web_page.OTHER_PORT: Protocol(_ASK_WHO, web_page.read_page),
    web_page.SECURE_PORT: Protocol(_ASK_WHO, _tls),
}


def taste(port: int) -> Script[bytes]:
    """Listen for a greeting; else say what is said first at this port, and take what comes."""
    reply = yield Exchange(b"", len, _takes_all, until_close=True, wait=GREETING_WAIT)
    protocol = PROTOCOLS.get(port)
    if not reply and protocol is not None:
        request = protocol.request
        reply = yield Exchange(request, len, _takes_all, until_close=True, wait=ANSWER_WAIT)
    if reply:
        yield reply


def ask_for_page() -> Script[bytes]:
    """Ask for a page, at a port where one does not belong, and take what comes."""
    reply = yield Exchange(_ASK_WHO, len, _takes_all, until_close=True, wait=ANSWER_WAIT)
    if reply:
        yield reply


def _takes_all(request: bytes, reply: bytes) -> bool:
    return True


def is_spoken(port: int, reply: bytes) -> bool:
    """Whether an answer is of the protocol that belongs to a port."""
    protocol = PROTOCOLS.get(port)
    try:
        return protocol is not None and bool(reply) and protocol.is_spoken(reply) is not False
    except Malformed:
        return False
