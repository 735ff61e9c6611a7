"""The one shape of every exchange on the wire.

A conversation is a state machine without I/O. It is told what was heard and what time it is; it
answers with what to send and what it learnt; it says when it wants to be woken. The address
server, a ping, a sweep, the BOOTP client in a simulated drive: all have this shape, and
``host.runner`` drives any number of them. Tests drive them with a list of packets and made-up
times.

Rules that hold for all of them:

- Times are seconds on one clock that never goes back; the caller brings them.
- ``Send`` asks for a packet to leave; the pacer decides when. ``left`` then says that it did, and
  at what time. A conversation with much to send puts the next packet in its answer to ``left``, or
  gives all of them as a ``SendEach``, whose packets are made one by one when there is room for
  them: a sweep of 65,534 addresses never queues 65,534 packets. ``all_left`` ends it.
- What passes by the thousand, packets, actions and the messages of ``core.wire``, are named tuples:
  a frozen dataclass takes three times as long to make, and five times as long to define.
- ``wake_at`` is read after every call. ``over`` once true stays true.
- What the methods return must be iterated to the end: most of them are generators.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from ipaddress import IPv4Address
from typing import Generic, NamedTuple, TypeAlias, TypeVar


class Frame(NamedTuple):
    """One Ethernet frame on the adapter, from destination MAC to the end of the payload."""

    data: bytes


class Endpoint(NamedTuple):
    """An IPv4 address and a UDP or TCP port."""

    address: IPv4Address
    port: int


class Datagram(NamedTuple):
    """A UDP payload and the other side: where it came from, or where it goes.

    ``refused``: the other side says that nobody there takes what was sent to it (RFC 1122
    §4.1.3.3); the payload is empty.
    """

    peer: Endpoint
    payload: bytes
    refused: bool = False


class IcmpPacket(NamedTuple):
    """An ICMP message and the other side.

    ``ttl`` is the time to live: what was left of it on arrival, or what it is to leave with.
    """

    peer: IPv4Address
    message: bytes
    ttl: int | None = None


class StreamBytes(NamedTuple):
    """Bytes of a TCP stream, as they came; an empty one says the other side has closed."""

    data: bytes


P = TypeVar("P")
F = TypeVar("F")


class Send(NamedTuple, Generic[P]):
    """Let this packet leave, as soon as the pacer allows."""

    packet: P


class SendEach(NamedTuple, Generic[P]):
    """Let these packets leave one after the other, in turn with what others send.

    Each is taken when the one before it has left, so what was heard until then can still decide
    about it.
    """

    packets: Iterator[P]


class Report(NamedTuple, Generic[F]):
    """This was learnt."""

    fact: F


Actions: TypeAlias = Iterable[Send[P] | SendEach[P] | Report[F]]


class Conversation(Generic[P, F]):
    """The state machine that the runner drives: packets ``P`` in and out, facts ``F`` out."""

    wake_at: float | None = None
    over: bool = False

    def begin(self, now: float) -> Actions[P, F]:
        """Start: called once, first."""
        yield from ()

    def heard(self, packet: P, now: float) -> Actions[P, F]:
        """A packet arrived at ``now`` (the kernel's receive time where it gives one)."""
        yield from ()

    def left(self, packet: P, now: float) -> Actions[P, F]:
        """A packet of this conversation left the computer at ``now``."""
        yield from ()

    def all_left(self, now: float) -> Actions[P, F]:
        """A ``SendEach`` has no more packets."""
        yield from ()

    def unsent(self, packet: P, reason: str, now: float) -> Actions[P, F]:
        """A packet could not leave; by default the conversation goes on as if it was lost."""
        yield from self.left(packet, now)

    def woke(self, now: float) -> Actions[P, F]:
        """``wake_at`` has come."""
        yield from ()
