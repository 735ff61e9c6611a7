"""Finding and identifying by CIP List Identity (CIP volume 2 §2-4.2): by broadcast, of one device
by its address, and over TCP."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from functools import partial
from ipaddress import IPv4Address

from portcall.core.address import LIMITED_BROADCAST
from portcall.core.catalog.catalog import Codes, Numbering
from portcall.core.cip.identity_object import ask_identity
from portcall.core.find import cip_interface
from portcall.core.find import sentences as say
from portcall.core.find.protocol import Behind, Protocol, Scripts, ToAll, ToEach
from portcall.core.find.sighting import Field, Learnt, Method, Said, Sighting, said_by
from portcall.core.printable import decoded, printable
from portcall.core.talk.ask_all import AskAll
from portcall.core.talk.conversation import Actions, Datagram, Endpoint, Report
from portcall.core.talk.dialogue import Script
from portcall.core.wire import cip
from portcall.core.wire.octets import Malformed

ANSWER_WAIT = 1.2
"""Seconds to wait for answers."""

LONGEST_DELAY = 0.8
"""Seconds by which a device may put off its answer to a broadcast (volume 2 §2-4.2.2).

So they do not all come at once, and all come while they are waited for.
"""

SHORTEST_DELAY = 0.5
"""The least that can be asked for (volume 2 §2-4.2.2), and enough for one device alone."""

_MOST_DEVICES = 20_000


def said(identity: cip.Identity) -> tuple[Said, ...]:
    """The texts of an identity."""
    return said_by(
        Method.CIP,
        (Field.PRODUCT, decoded(identity.product_name)),
        (Field.KIND, identity.kind),
        (Field.SERIAL, identity.serial_text),
        (Field.FIRMWARE, identity.firmware),
    )


def learnt(payload: bytes) -> Learnt:
    """The contents of an answer to List Identity, also of an odd one. Raises Malformed."""
    message = cip.parse_answer(payload)
    try:
        identity = cip.parse_identity(message)
    except Malformed as trouble:
        manner = say.CIP_UNREADABLE(because=printable(trouble.what))
        return Learnt(said_by(Method.CIP, (Field.MANNER, manner)))
    manners = [(Field.MANNER, say.CIP_ODD(oddity=each)) for each in identity.oddities]
    odd = said_by(Method.CIP, *manners)
    return Learnt(said(identity) + odd, codes(identity))


def codes(identity: cip.Identity) -> Codes:
    """The numbers of an identity."""
    return Codes(Numbering.CIP, identity.vendor, identity.product_code)


class IdentityByBroadcast(AskAll[Datagram, Sighting]):
    """Asks at broadcast addresses; reports each device that answers once."""

    def __init__(self, addresses: Sequence[IPv4Address]) -> None:
        super().__init__(ANSWER_WAIT)
        self._peers = tuple(Endpoint(address, cip.PORT) for address in addresses)
        self._seen: set[IPv4Address] = set()
        self.refusal: str | None = None
        """Why a question could not leave this computer, in the operating system's words."""

    def question(self) -> Iterable[Datagram]:
        """A List Identity for every broadcast address."""
        return [Datagram(peer, cip.encode_list_identity(LONGEST_DELAY)) for peer in self._peers]

    def unsent(self, packet: Datagram, reason: str, now: float) -> Actions[Datagram, Sighting]:
        """Remember why."""
        self.refusal = reason
        yield from ()

    def heard(self, packet: Datagram, now: float) -> Actions[Datagram, Sighting]:
        """Read an answer; what is no CIP at all is not from a device of this protocol."""
        address = packet.peer.address
        if address in self._seen or len(self._seen) >= _MOST_DEVICES:
            return
        try:
            told = learnt(packet.payload)
        except Malformed:
            return
        self._seen.add(address)
        yield Report(Sighting(now, Method.CIP, address=address, said=told.said, codes=told.codes))


class IdentityByAddress:
    """The same question to each device that a broadcast did not reach, or that ignores them."""

    method = Method.CIP
    port = cip.PORT

    def ask(self, address: IPv4Address, attempt: int) -> bytes:
        """The same question at each attempt."""
        return cip.encode_list_identity(SHORTEST_DELAY)

    def read(self, address: IPv4Address, payload: bytes) -> Learnt:
        """The identity, and that it had to be asked for."""
        told = learnt(payload)
        manner = said_by(Method.CIP, (Field.MANNER, say.CIP_DIRECT()))
        return Learnt(told.said + manner, told.codes)


def script() -> Script[Learnt]:
    """The same question over TCP."""
    identity = yield from ask_identity()
    if identity is not None:
        yield Learnt(said(identity), codes(identity))


def _behind(door: Endpoint, is_known: bool) -> Scripts:
    """The scripts: the identity, unless it is known, and the settings of the interface reached."""
    who: Scripts = () if is_known else (script,)
    return (*who, partial(cip_interface.script, door.address))


PROTOCOL = Protocol(
    Method.CIP,
    "CIP",
    10,
    to_all=ToAll(lambda broadcast: IdentityByBroadcast((LIMITED_BROADCAST,))),
    to_each=ToEach(lambda community: IdentityByAddress(), if_unknown=True),
    doors={cip.PORT: Behind(_behind, cip.encode_list_identity(), cip.parse)},
)
