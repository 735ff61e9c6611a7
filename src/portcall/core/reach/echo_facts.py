"""What becomes of a question whether something is reachable: an echo, or an attempt at a door."""

from __future__ import annotations

from ipaddress import IPv4Address
from typing import NamedTuple, TypeAlias

from portcall.core.talk.conversation import Endpoint

Target: TypeAlias = IPv4Address | Endpoint
"""An address, which is sent echoes, or a door of it, at which a connection is tried."""

NO_REPLY = "no reply"


class Replied(NamedTuple):
    """It was answered: ``seconds`` is the round-trip time by the kernel's receive timestamp.

    ``at`` is when it left; ``octets`` the length of the IPv4 packet.
    """

    target: Target
    sequence: int
    seconds: float
    ttl: int | None = None
    at: float = 0.0
    octets: int = 0


class Unanswered(NamedTuple):
    """No answer came in time, or something said why it will not.

    ``by`` is who said so, when it was another than this computer, and ``said`` what.
    """

    target: Target
    sequence: int
    reason: str
    by: IPv4Address | None = None
    said: str = ""
    at: float = 0.0
    octets: int = 0


Fact: TypeAlias = Replied | Unanswered


def address_of(target: Target) -> IPv4Address:
    """The address of a target, or of the device whose door it is."""
    return target.address if isinstance(target, Endpoint) else target
