"""A CIP session over TCP, as parts of scripts (``dialogue``): open, ask, close.

CIP volume 2 §2-4.4 to §2-4.7; one request at a time.
"""

from __future__ import annotations

from collections.abc import Generator
from typing import TypeAlias, TypeVar

from portcall.core.talk.dialogue import Exchange
from portcall.core.wire import cip, cip_message
from portcall.core.wire.octets import Malformed

T = TypeVar("T")

Part: TypeAlias = Generator[Exchange, bytes | None, T]
"""To be used with ``yield from``."""


def open_session() -> Part[int | None]:
    """Register a session: its number, or None when the device gives none. Raises Malformed."""
    reply = yield Exchange(cip_message.encode_register_session(), cip.whole_length)
    if reply is None:
        return None
    opened = cip.parse(reply)
    registered = opened.command == cip_message.REGISTER_SESSION and opened.status == 0
    return opened.session if registered else None


def ask(session: int, request: cip_message.Request) -> Part[cip_message.Response | None]:
    """One request: its response, or None for silence and for what is none."""
    message = cip_message.encode_request(request)
    reply = yield Exchange(cip_message.encode_unconnected(session, message), cip.whole_length)
    if reply is None:
        return None
    try:
        return cip_message.parse_response(cip_message.parse_unconnected(cip.parse(reply)))
    except Malformed:
        return None


def close_session(session: int) -> Part[None]:
    """Say goodbye; the device closes the connection, nothing comes back."""
    goodbye = cip_message.encode_unregister_session(session)
    yield Exchange(goodbye, cip.whole_length, wanted=False)
