"""The finds and the failures of a look so far: all its parts report here."""

from __future__ import annotations

import asyncio
from collections.abc import Callable, Collection, Hashable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field
from ipaddress import IPv4Address, IPv4Network

from portcall.core.address import AddressRange, Mac
from portcall.core.catalog.catalog import USUAL_DOORS
from portcall.core.find.arrivals import Ear
from portcall.core.find.device import MANY_ADDRESSES
from portcall.core.find.outlook import Outlook
from portcall.core.find.protocols import ASKING_EACH, WIRE_METHODS
from portcall.core.find.sighting import Door, Method, Sighting
from portcall.core.find.snmp_system import DEFAULT_COMMUNITY
from portcall.core.find.switch_tables import SwitchTables
from portcall.core.talk.pacer import Pace
from portcall.core.talk.request import AddressProtocol
from portcall.host.datagrams import Datagrams
from portcall.jobs.look.inside import Inside

LISTEN_SECONDS = 4.0
"""A device without an address asks every few seconds; shorter than this misses it."""

BETWEEN_BROADCASTS = 0.1
"""Seconds between two questions to everybody in a subnet: never two crowds of answers at once."""

_MOST_ASKED = 4096
"""Addresses asked in one look: whoever floods the wire with new ones is not followed."""


_MOST_SWITCHES = 256
_MOST_HOLDERS = 4
"""MACs at one address that are told of."""


@dataclass(frozen=True, slots=True)
class NotRun:
    """A method that could not run here, and why."""

    method: Method
    reason: str


@dataclass(frozen=True, slots=True)
class Orders:
    """The orders for a look. Times in seconds, pace in packets a second.

    ``subnets`` give the masks of foreign subnets; ``spared`` are addresses never borrowed;
    ``known`` are devices' addresses that need not be asked again what they are; ``within``, when
    there are any, are the only addresses that are asked; without ``borrows``, devices in foreign
    subnets are not asked.
    """

    ranges: Sequence[AddressRange] = ()
    pace: Pace | None = field(default_factory=Pace)
    methods: Collection[Method] = WIRE_METHODS
    listen: float = LISTEN_SECONDS
    community: str = DEFAULT_COMMUNITY
    doors: Mapping[int, str] = field(default_factory=lambda: dict(USUAL_DOORS))
    subnets: Sequence[IPv4Network] = ()
    preferred: IPv4Address | None = None
    spared: Collection[IPv4Address] = ()
    known: Collection[IPv4Address] = ()
    within: Sequence[AddressRange] = ()
    borrows: bool = True
    too_large: Sequence[IPv4Network] = ()
    """Subnets of this computer's or the site's that are not asked address by address."""
    starting: Collection[IPv4Address] = ()
    """Where the next device may start that is connected: single addresses, not borrowed readily."""
    inside: Callable[[IPv4Address], Inside | None] = lambda address: None
    """What to ask of the inside of the device at an address."""
    further: Callable[[int], Collection[IPv4Address]] = lambda sweep_round: ()
    """The single addresses to ask for besides the ranges, as a round of the sweep ends: 1, or 2."""


class Findings:
    """Takes sightings, and keeps which addresses are known, asked and identified.

    ``seen`` is told of every sighting; ``news`` of every address that may be asked, once;
    ``asking`` that a device asks for an address by DHCP; ``shared`` of each MAC that answers ARP
    for an address for which another does, too.
    """

    def __init__(
        self,
        orders: Orders,
        seen: Callable[[Sighting], None],
        news: Callable[[IPv4Address], None],
        asking: Callable[[], None],
        outlook: Outlook,
        shared: Callable[[IPv4Address, Mac], None] = lambda address, mac: None,
    ) -> None:
        self.orders = orders
        self.outlook = outlook
        self.not_run: list[NotRun] = []
        self.addresses: dict[IPv4Address, None] = {}
        """Every device's address seen so far that may be asked."""
        self.without_mac: set[IPv4Address] = set()
        """Those that answered by a method that tells no MAC, and by no other."""
        self._with_mac: set[IPv4Address] = set()
        self.identified: set[IPv4Address] = set()
        """Those that said by CIP what they are."""
        self.by_snmp: set[IPv4Address] = set()
        """Those that answered SNMP."""
        self.asked_inside: set[Hashable] = set()
        """Devices of which it was asked what is inside, at whichever of their addresses."""
        self.open: set[tuple[IPv4Address, int]] = set()
        """The ports that are open, at their addresses."""
        self.switches: list[SwitchTables] = []
        """What managed switches told of their ports."""
        self.asked: set[IPv4Address] = set(orders.known)
        """Those that are being asked what they are, or need not be."""
        self.ears: list[Ear] = []
        """The sockets that answers by CIP came to, if they came."""
        self.came_through: set[IPv4Address] = set()
        """Those whose datagrams did."""
        self.pace = orders.pace or Pace()
        """What may be expected to leave."""
        self.asks_devices = any(method in orders.methods for method in ASKING_EACH)
        self._claims: dict[Mac, int] = {}
        """For how many addresses each MAC answers; no more than there are addresses."""
        self._seen = seen
        self._news = news
        self._asking = asking
        self._shared = shared
        self._holders: dict[IPv4Address, tuple[Mac, ...]] = {}
        """Who answers ARP for an address, as far as such addresses are followed."""
        self.swept = asyncio.Event()
        """Whether nobody new can answer a sweep any more."""

    def report(self, seen: Sighting) -> None:
        """Take a sighting."""
        self._seen(seen)
        if seen.vlan is not None:
            # Questions on this wire do not reach it.
            return
        if seen.method is Method.CIP and seen.address is not None:
            self.identified.add(seen.address)
        if seen.method is Method.SNMP and seen.address is not None:
            self.by_snmp.add(seen.address)
        if seen.method is Method.PORTS and seen.address is not None:
            ports = (each.value.port for each in seen.said if isinstance(each.value, Door))
            self.open.update((seen.address, port) for port in ports)
        address = seen.address
        if address is not None and len(self._with_mac) < _MOST_ASKED:
            if seen.mac is not None:
                self._with_mac.add(address)
                self.without_mac.discard(address)
            elif address not in self._with_mac and len(self.without_mac) < _MOST_ASKED:
                self.without_mac.add(address)
        if address is not None and seen.mac is not None and seen.method is Method.ARP:
            self._note_holder(address, seen.mac)
        if self.asks_devices and seen.asks is AddressProtocol.DHCP:
            self._asking()
        if not self.asks_devices or address is None or address in self.addresses:
            return
        if len(self.addresses) >= _MOST_ASKED:
            for method in ASKING_EACH:
                self.cannot(
                    method,
                    f"more than {_MOST_ASKED:,} addresses were seen, the others are listed and "
                    "not asked; name a smaller range",
                )
            return
        if seen.mac is not None and seen.method is Method.ARP:
            claims = self._claims.get(seen.mac, 0) + 1
            self._claims[seen.mac] = claims
            if claims > MANY_ADDRESSES:
                # A router that answers for a whole subnet would be asked for each address of it.
                return
        within = self.orders.within
        if not within or any(address in span for span in within):
            self.may_ask(address)

    def _note_holder(self, address: IPv4Address, mac: Mac) -> None:
        known = self._holders.get(address, ())
        if mac in known or len(known) >= _MOST_HOLDERS:
            return
        if not known and len(self._holders) >= _MOST_ASKED:
            return
        self._holders[address] = (*known, mac)
        if len(known) == 1:
            self._shared(address, known[0])
        if known:
            self._shared(address, mac)

    def device_at(self, address: IPv4Address) -> Hashable:
        """Which device is at an address: its MAC, where ARP has told it."""
        return next(iter(self._holders.get(address, ())), None) or address

    def take_switch(self, told: SwitchTables) -> None:
        """Take what a switch told; of more than there may be on a wire, not."""
        if len(self.switches) < _MOST_SWITCHES:
            self.switches.append(told)

    def report_unasked(self, seen: Sighting) -> None:
        """Take a sighting of a look that asks no device: a sweep sees ten thousands."""
        self._seen(seen)

    @contextmanager
    def hearing(self, medium: Datagrams) -> Iterator[None]:
        """Note what comes to a socket while the block runs, whether it can be read or not."""
        clock = asyncio.get_running_loop().time
        ear = Ear(medium.port, clock())
        self.ears.append(ear)
        try:
            yield
        finally:
            ear.closed = clock()
            self.came_through |= medium.senders

    def may_ask(self, address: IPv4Address) -> None:
        """From now on a device at this address is asked."""
        self.addresses[address] = None
        self._news(address)

    def cannot(self, method: Method, reason: str) -> None:
        """Note a method that could not run, once for each reason."""
        missing = NotRun(method, reason)
        if method in self.orders.methods and missing not in self.not_run:
            self.not_run.append(missing)
