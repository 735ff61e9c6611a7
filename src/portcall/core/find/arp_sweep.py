"""Finding by ARP: ask for every address of some ranges, twice where nobody answers.

For targets in one of the workstation's own subnets the request carries its own address. For others
it is a probe with sender address zero (RFC 5227 §1.1), which a device in a foreign subnet answers
too, and which claims nothing. So does what asks for one of its own addresses: somebody else may
have it as well.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from ipaddress import IPv4Address, IPv4Interface

from portcall.core.address import UNSPECIFIED, AddressRange, Mac
from portcall.core.find.protocol import Protocol
from portcall.core.find.sighting import Method, Sighting
from portcall.core.talk.conversation import Actions, Conversation, Frame, Report, SendEach
from portcall.core.wire import arp

ANSWER_WAIT = 0.5
"""Seconds after the last request; a loaded device answers ARP within a fraction of this."""

ROUNDS = 2
_MOST_SEEN = 200_000
_NOBODY = UNSPECIFIED.packed


class ArpSweep(Conversation[Frame, Sighting]):
    """Reports each pair of address and MAC once.

    ``further`` is asked, when a round through the ranges has left, for single addresses that are to
    be asked for in that round, too.

    Both are kept as octets, because there may be tens of thousands. ``_answered`` has who answered
    first for an address, ``_rivals`` who else did.
    """

    def __init__(
        self,
        own_mac: Mac,
        own: Sequence[IPv4Interface],
        ranges: Sequence[AddressRange],
        further: Callable[[int], Iterable[IPv4Address]] = lambda sweep_round: (),
    ) -> None:
        self._own_mac = own_mac
        self._own = tuple(own)
        self._ranges = tuple(ranges)
        self._further = further
        self._answered: dict[bytes, bytes] = {}
        self._rivals: set[bytes] = set()
        self._round = 0
        self._round_began = 0.0

    @property
    def total(self) -> int:
        """Addresses to ask for in one round."""
        return sum(len(span) for span in self._ranges)

    def begin(self, now: float) -> Actions[Frame, Sighting]:
        """Start the first round."""
        return self.woke(now)

    def woke(self, now: float) -> Actions[Frame, Sighting]:
        """The wait after a round is over: the next."""
        self.wake_at = None
        if self._round == ROUNDS:
            self.over = True
            return ()
        self._round += 1
        self._round_began = now
        return (SendEach(self._to_the_silent()),)

    def all_left(self, now: float) -> Actions[Frame, Sighting]:
        """The last request of a round is out.

        The next round begins with those that were asked first: in a long one they have had their
        time by now.
        """
        is_last = self._round == ROUNDS
        self.wake_at = now + ANSWER_WAIT if is_last else max(now, self._round_began + ANSWER_WAIT)
        return ()

    def heard(self, packet: Frame, now: float) -> Actions[Frame, Sighting]:
        """Take answers, also those not asked for."""
        sender = arp.parse_reply_sender(packet.data)
        if sender is None:
            return ()
        mac, address = sender[:6], sender[6:]
        known = self._answered.get(address)
        if known is None:
            if mac == self._own_mac or address == _NOBODY or len(self._answered) >= _MOST_SEEN:
                return ()
            self._answered[address] = mac
        else:
            if mac == known or sender in self._rivals or mac == self._own_mac:
                return ()
            if len(self._rivals) >= _MOST_SEEN:
                return ()
            self._rivals.add(sender)
        return (Report(Sighting(now, Method.ARP, Mac(mac), IPv4Address(address))),)

    def _to_the_silent(self) -> Iterator[Frame]:
        """Requests for every address that has not answered, made as they are needed."""
        answered = self._answered
        own = {each.ip.packed for each in self._own} - answered.keys()
        nobodys = arp.encode_request(self._own_mac, UNSPECIFIED, UNSPECIFIED)[:-4]
        for span in self._ranges:
            for first, last, sender in self._pieces(span):
                # Every request of a piece is the same but for its last four octets.
                head = arp.encode_request(self._own_mac, sender, UNSPECIFIED)[:-4]
                for number in range(first, last + 1):
                    target = number.to_bytes(4, "big")
                    if target in own:
                        yield Frame(nobodys + target)
                    elif target not in answered:
                        yield Frame(head + target)

        for address in self._further(self._round):
            if address.packed not in answered:
                yield Frame(nobodys + address.packed)

    def _pieces(self, span: AddressRange) -> Iterator[tuple[int, int, IPv4Address]]:
        """A range in pieces by who asks: an own address inside its subnet, else nobody."""
        position, end = int(span.first), int(span.last)
        inside = sorted(
            (int(own.network.network_address), int(own.network.broadcast_address), own.ip)
            for own in self._own
        )
        for first, last, sender in inside:
            if last < position or first > end:
                continue
            if first > position:
                yield position, first - 1, UNSPECIFIED
                position = first
            yield position, min(last, end), sender
            position = last + 1
        if position <= end:
            yield position, end, UNSPECIFIED


PROTOCOL = Protocol(Method.ARP, "ARP", 52, says_who=False, needs_link=True)
