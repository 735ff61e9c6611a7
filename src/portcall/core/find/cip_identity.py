"""Finding and identifying by CIP List Identity (CIP volume 2 §2-4.2): by broadcast, or of one
device over TCP."""

from __future__ import annotations

from collections.abc import Sequence
from ipaddress import IPv4Address

from portcall.core.conversation import (
    Actions,
    Conversation,
    Datagram,
    Endpoint,
    Report,
    Send,
    StreamBytes,
)
from portcall.core.find.sighting import Field, Method, Said, Sighting
from portcall.core.printable import decoded
from portcall.core.wire import cip
from portcall.core.wire.octets import Malformed

ANSWER_WAIT = 1.5
"""Seconds. Volume 2 §2-4.2.2: a device may delay its answer to a broadcast, to spread them."""

ASK_TIMES = 2
_MOST_DEVICES = 20_000


def sighting(identity: cip.Identity, address: IPv4Address, now: float) -> Sighting:
    """What an identity says, as a sighting of the address that sent it."""
    values = (
        (Field.MAKER, f"CIP vendor {identity.vendor}"),
        (Field.PRODUCT, decoded(identity.product_name)),
        (Field.KIND, identity.kind),
        (Field.SERIAL, identity.serial_text),
        (Field.FIRMWARE, identity.firmware),
    )
    said = tuple(Said(field, value, Method.CIP) for field, value in values if value)
    return Sighting(now, Method.CIP, address=address, said=said)


class IdentityByDatagram(Conversation[Datagram, Sighting]):
    """Asks at ``addresses`` (broadcast or a device's own), twice; reports each answerer once."""

    def __init__(self, addresses: Sequence[IPv4Address]) -> None:
        self._peers = tuple(Endpoint(address, cip.PORT) for address in addresses)
        self._asks_left = ASK_TIMES
        self._seen: set[IPv4Address] = set()
        self.refusal: str | None = None
        """Why a question could not leave this computer, in the words that came."""

    def unsent(self, packet: Datagram, reason: str, now: float) -> Actions[Datagram, Sighting]:
        """Remember why."""
        self.refusal = reason
        yield from ()

    def begin(self, now: float) -> Actions[Datagram, Sighting]:
        """Ask."""
        yield from self._ask(now)

    def woke(self, now: float) -> Actions[Datagram, Sighting]:
        """Ask again, or end."""
        if self._asks_left:
            yield from self._ask(now)
        else:
            self.over = True
            self.wake_at = None

    def _ask(self, now: float) -> Actions[Datagram, Sighting]:
        self._asks_left -= 1
        self.wake_at = now + ANSWER_WAIT / (2 if self._asks_left else 1)
        for peer in self._peers:
            yield Send(Datagram(peer, cip.list_identity()))

    def heard(self, packet: Datagram, now: float) -> Actions[Datagram, Sighting]:
        """Read an answer; what cannot be read is not from a device of this protocol."""
        address = packet.peer.address
        if address in self._seen or len(self._seen) >= _MOST_DEVICES:
            return
        try:
            identity = cip.parse_identity(cip.parse(packet.payload))
        except Malformed:
            return
        self._seen.add(address)
        yield Report(sighting(identity, address, now))


class IdentityByStream(Conversation[StreamBytes, Sighting]):
    """Asks one device over a TCP connection that is open; over when it answered or closed."""

    def __init__(self, address: IPv4Address) -> None:
        self._address = address
        self._received = b""

    def begin(self, now: float) -> Actions[StreamBytes, Sighting]:
        """Ask."""
        self.wake_at = now + ANSWER_WAIT
        yield Send(StreamBytes(cip.list_identity()))

    def woke(self, now: float) -> Actions[StreamBytes, Sighting]:
        """No answer in time."""
        self._end()
        yield from ()

    def heard(self, packet: StreamBytes, now: float) -> Actions[StreamBytes, Sighting]:
        """Gather the one message; anything else ends it."""
        if not packet.data:
            self._end()
            return
        self._received += packet.data
        if len(self._received) < cip.HEADER_LENGTH:
            return
        try:
            length = cip.whole_length(self._received[: cip.HEADER_LENGTH])
            if len(self._received) < length:
                return
            identity = cip.parse_identity(cip.parse(self._received[:length]))
        except Malformed:
            self._end()
            return
        self._end()
        yield Report(sighting(identity, self._address, now))

    def _end(self) -> None:
        self.over = True
        self.wake_at = None
