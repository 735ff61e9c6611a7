"""The fates of a question: of an echo, or of an attempt at a door."""

from __future__ import annotations

from ipaddress import IPv4Address
from typing import NamedTuple, TypeAlias

from portcall.core.talk.conversation import Endpoint

Target: TypeAlias = IPv4Address | Endpoint
"""An address, which is sent echoes, or a door of it, at which a connection is tried."""

NO_REPLY = "no reply"


class Replied(NamedTuple):
    """An answered question: ``seconds`` is the round-trip time by the kernel's receive timestamp.

    ``at`` is when it left; ``octets`` the length of the IPv4 packet.
    """

    target: Target
    sequence: int
    seconds: float
    ttl: int | None = None
    at: float = 0.0
    octets: int = 0


class Undelivered(NamedTuple):
    """Somebody on the way says that a question is not delivered.

    ``seconds`` after it had left; ``ttl`` is what was left of the message's time to live.
    ``expired``: the question's own time to live ran out. ``mtu``: how long it may be, when it was
    too long.
    """

    by: IPv4Address
    said: str
    seconds: float = 0.0
    ttl: int | None = None
    expired: bool = False
    mtu: int | None = None


class Unanswered(NamedTuple):
    """No answer came in time, or something said why it will not; ``told`` is what another said."""

    target: Target
    sequence: int
    reason: str
    told: Undelivered | None = None
    at: float = 0.0
    octets: int = 0


Fact: TypeAlias = Replied | Unanswered


def address_of(target: Target) -> IPv4Address:
    """The address of a target, or of the device whose door it is."""
    return target.address if isinstance(target, Endpoint) else target
