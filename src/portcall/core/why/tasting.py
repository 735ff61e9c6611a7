"""Tasting a door that does not answer as its protocol should.

For each port of the trade, the first thing that is said there, and whether an answer is of that
protocol.
"""

from __future__ import annotations

from portcall.core.find.protocols import AT_DOOR
from portcall.core.find.web_page import ASK_FOR_PAGE
from portcall.core.talk.dialogue import Exchange, Script
from portcall.core.wire.octets import Malformed

GREETING_WAIT, ANSWER_WAIT = 0.6, 1.5
"""Seconds: many programs greet before they are asked."""


def taste(port: int) -> Script[bytes]:
    """Listen for a greeting; else say what is said first at this port, and take what comes."""
    reply = yield Exchange(b"", len, _takes_all, until_close=True, wait=GREETING_WAIT)
    protocol = AT_DOOR.get(port)
    if not reply and protocol is not None:
        first = protocol.doors[port].first
        reply = yield Exchange(first, len, _takes_all, until_close=True, wait=ANSWER_WAIT)
    if reply:
        yield reply


def ask_for_page() -> Script[bytes]:
    """Ask for a page, at a port where one does not belong, and take what comes."""
    reply = yield Exchange(ASK_FOR_PAGE, len, _takes_all, until_close=True, wait=ANSWER_WAIT)
    if reply:
        yield reply


def _takes_all(request: bytes, reply: bytes) -> bool:
    return True


def is_spoken(port: int, reply: bytes) -> bool:
    """Whether an answer is of the protocol that belongs to a port."""
    protocol = AT_DOOR.get(port)
    if protocol is None or not reply:
        return False
    try:
        return protocol.doors[port].is_spoken(reply) is not False
    except Malformed:
        return False
