"""Following one device on the wire while it moves or restarts: where it answers, and what it asks.

The addresses where it was and where it should be are asked by ARP probes (RFC 5227 §1.1) twice a
second. What the device says unasked counts too: an ARP announcement from another address, a request
for an address.

A device that is only accompanied is asked seldom, and by frames to it alone (RFC 1122 §2.3.2.1, the
unicast poll), so that an hour beside it costs the others nothing. When it is silent where it was,
it is asked for the addresses where it might be.
"""

from __future__ import annotations

from collections.abc import Collection, Iterator
from dataclasses import dataclass
from ipaddress import IPv4Address
from itertools import cycle, islice

from portcall.core.address import BROADCAST, UNSPECIFIED, Mac
from portcall.core.talk import request
from portcall.core.talk.conversation import Actions, Conversation, Frame, Report, Send
from portcall.core.talk.frames import announced_address, heard_arp
from portcall.core.talk.request import AddressProtocol
from portcall.core.wire import arp
from portcall.core.wire.octets import Malformed

INTERVAL = 0.5
"""Seconds between two rounds of probes."""

QUIET = 3 * INTERVAL + 0.1
"""Seconds without a word from an address until it counts as left: three probes unanswered."""

SELDOM = 1.0
"""Seconds between two questions to a device that is accompanied, and answers."""

_TRIED_AT_ONCE = 25
"""Addresses at which a device that is accompanied, and is silent, is asked for in a round."""

_ANSWER_TIME = 0.2
_MOST_ADDRESSES = 64


@dataclass(frozen=True, slots=True)
class At:
    """The device answers at an address, for the first time, or again after it did not."""

    address: IPv4Address
    since: float


@dataclass(frozen=True, slots=True)
class Left:
    """The device does not answer there any more; ``last`` is when it was last heard there."""

    address: IPv4Address
    last: float


@dataclass(frozen=True, slots=True)
class Asks:
    """The device asks for an address."""

    protocol: AddressProtocol
    at: float


@dataclass(frozen=True, slots=True)
class Other:
    """Another device answers at an address that was asked."""

    address: IPv4Address
    mac: Mac


Whereabout = At | Left | Asks | Other


class Whereabouts(Conversation[Frame, Whereabout]):
    """Reports where the device is. It is never over: the owner ends it.

    ``addresses`` are asked in every round, and one of ``elsewhere`` in turn. ``accompanied``: the
    device alone is asked, those ``elsewhere`` only while it is silent.
    """

    def __init__(
        self,
        own_mac: Mac,
        device: Mac,
        addresses: Collection[IPv4Address],
        elsewhere: Collection[IPv4Address] = (),
        accompanied: bool = False,
    ) -> None:
        self._own_mac = own_mac
        self._device = device
        self._accompanied = accompanied
        self._addresses = tuple(dict.fromkeys(addresses))
        self._elsewhere: Iterator[IPv4Address] = cycle(
            [each for each in elsewhere if each not in self._addresses]
        )
        self._heard: dict[IPv4Address, float] = {}
        self._here: dict[IPv4Address, float] = {}
        self._others: set[tuple[IPv4Address, Mac]] = set()
        self.asks: AddressProtocol | None = None
        """How it asks for an address, when that is what it does."""

    @property
    def last(self) -> tuple[IPv4Address, float] | None:
        """The address it was heard at last, and when; None when it was not heard at all."""
        return max(self._heard.items(), key=lambda entry: entry[1], default=None)

    def is_at(self, address: IPv4Address) -> bool:
        """Whether it answers there now."""
        return address in self._here

    @property
    def there(self) -> tuple[IPv4Address, ...]:
        """All addresses at which it answers now."""
        return tuple(self._here)

    def settled_at(self, address: IPv4Address, now: float) -> float | None:
        """Since when it answers there and nowhere else, or None as long as that is not certain.

        It is certain after a whole round in which the device was silent at the other addresses that
        are asked. A second address that it has besides does not matter.
        """
        since = self._here.get(address)
        if since is None:
            return None
        others = (other for other in self._addresses if other != address)
        latest = max((self._heard.get(other, since) for other in others), default=since)
        return since if now - max(since, latest) >= INTERVAL + _ANSWER_TIME else None

    def begin(self, now: float) -> Actions[Frame, Whereabout]:
        """The first round."""
        yield from self.woke(now)

    def woke(self, now: float) -> Actions[Frame, Whereabout]:
        """Say what was left, and ask again."""
        quiet = self._in_step(now)
        for address in sorted(self._here):
            if now - self._heard[address] > quiet:
                del self._here[address]
                self.asks = None
                yield Report(Left(address, self._heard[address]))
        asked = dict.fromkeys((*self._addresses, *self._here))
        unlikely = islice(self._elsewhere, self._tried)
        to = self._device if self._accompanied else BROADCAST
        for address in (*asked, *unlikely):
            yield Send(Frame(arp.encode_request(self._own_mac, UNSPECIFIED, address, to)))

    def _in_step(self, now: float) -> float:
        """Set the time of the next round; gives the seconds after which silence counts."""
        at_ease = self._accompanied and len(self._here) == 1
        self.wake_at = now + (SELDOM if at_ease else INTERVAL)
        return QUIET + 3 * (SELDOM - INTERVAL) if at_ease else QUIET

    @property
    def _tried(self) -> int:
        if not self._accompanied:
            return 1
        return 0 if self._here else _TRIED_AT_ONCE

    def heard(self, packet: Frame, now: float) -> Actions[Frame, Whereabout]:
        """Note a sender's word about an address."""
        said = heard_arp(packet)
        if said is None:
            yield from self._unasked(packet, now)
            return
        address, mac = said.sender_address, said.sender_mac
        if address == UNSPECIFIED or mac == self._own_mac:
            return
        if mac == self._device:
            yield from self._at(address, now)
            return
        new = address in self._addresses and (address, mac) not in self._others
        if new and len(self._others) < _MOST_ADDRESSES:
            self._others.add((address, mac))
            yield Report(Other(address, mac))

    def _unasked(self, packet: Frame, now: float) -> Actions[Frame, Whereabout]:
        """A request for an address, or an announcement in another protocol."""
        if packet.data[6:12] != self._device:
            return
        try:
            asked = request.read(packet)
        except Malformed:
            return
        if asked is None:
            address = announced_address(packet)
        elif asked.mac == self._device:
            address = None if asked.message.ciaddr == UNSPECIFIED else asked.message.ciaddr
        else:
            return
        if address is not None:
            yield from self._at(address, now)
        elif asked is not None and asked.wants_address and asked.protocol is not self.asks:
            self.asks = asked.protocol
            yield Report(Asks(asked.protocol, now))

    def _at(self, address: IPv4Address, now: float) -> Actions[Frame, Whereabout]:
        if address not in self._heard and len(self._heard) >= _MOST_ADDRESSES:
            return
        self._heard[address] = now
        if address not in self._here:
            self._here[address] = now
            if self._accompanied:
                # It may have left the other: ask at once.
                self.wake_at = now
            yield Report(At(address, now))
