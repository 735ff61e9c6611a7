"""A CIP session over TCP, as parts of scripts (``dialogue``): open, ask, close.

CIP volume 2 §2-4.4 to §2-4.7; one request at a time.
"""

from __future__ import annotations

from collections.abc import Generator
from dataclasses import dataclass
from typing import TypeAlias, TypeVar

from portcall.core.talk.dialogue import Exchange
from portcall.core.wire import cip, cip_message
from portcall.core.wire.cip_route import Route, unconnected_send
from portcall.core.wire.octets import Malformed

T = TypeVar("T")

Part: TypeAlias = Generator[Exchange, bytes | None, T]
"""To be used with ``yield from``."""


@dataclass(slots=True)
class Session:
    """A session that is open; each request has a number of its own, its sender context."""

    number: int
    asked: int = 0

    def next_context(self) -> bytes:
        """The sender context of the next request."""
        self.asked += 1
        return self.asked.to_bytes(8, "little")


def exchange(request: bytes) -> Exchange:
    """A request over the encapsulation, and the reply that has its command and context."""
    return Exchange(request, cip.whole_length, cip.is_answer)


def open_session() -> Part[Session | None]:
    """Register a session; None when the device gives none. Raises Malformed."""
    reply = yield exchange(cip_message.encode_register_session())
    if reply is None:
        return None
    opened = cip.parse(reply)
    return Session(opened.session) if opened.status == 0 else None


def ask(session: Session, request: cip_message.Request) -> Part[cip_message.Response | None]:
    """One request: its response, or None for silence and for what is none."""
    message = cip_message.encode_request(request)
    context = session.next_context()
    reply = yield exchange(cip_message.encode_unconnected(session.number, message, context))
    if reply is None:
        return None
    try:
        return cip_message.parse_response(cip_message.parse_unconnected(cip.parse(reply)))
    except Malformed:
        return None


def ask_by(
    session: Session, request: cip_message.Request, route: Route
) -> Part[cip_message.Response | None]:
    """The same of whom a route leads to; of the device itself where it is empty.

    What is answered by the way, because the request did not arrive, has the service of sending on.
    """
    if not route:
        return (yield from ask(session, request))
    sent_on = unconnected_send(cip_message.encode_request(request), route)
    return (yield from ask(session, sent_on))


def close_session(session: Session) -> Part[None]:
    """Say goodbye; the device closes the connection, nothing comes back."""
    goodbye = cip_message.encode_unregister_session(session.number)
    yield Exchange(goodbye, cip.whole_length, wanted=False)
