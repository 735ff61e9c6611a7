"""One look at the wire: every method that can run here, side by side, through one pacer.

Listening starts first and lasts until all else is done. Questions to everybody go one after the
other, so that their answers do not come at once; the sweep runs beside them; then each device that
was seen is asked (``ask``). A device in a subnet that the workstation is not in is asked from an
address borrowed there (``host.leg``), once nobody has answered for that.
"""

from __future__ import annotations

import asyncio
from collections.abc import Callable, Collection, Mapping, Sequence
from contextlib import AsyncExitStack, closing
from dataclasses import dataclass, field
from ipaddress import IPv4Address, IPv4Interface, IPv4Network

from portcall.core.adapters.adapter import Adapter
from portcall.core.address import AddressRange
from portcall.core.catalog.catalog import USUAL_PORTS
from portcall.core.find.arp_sweep import ANSWER_WAIT as SWEEP_WAIT
from portcall.core.find.arp_sweep import ROUNDS, ArpSweep
from portcall.core.find.arrivals import Arrivals
from portcall.core.find.borrowed import borrowable
from portcall.core.find.dcp_identify import ANSWER_WAIT as DCP_WAIT
from portcall.core.find.dcp_identify import DcpIdentify
from portcall.core.find.ipv6_echo import Ipv6Echo
from portcall.core.find.outlook import Outlook
from portcall.core.find.overhear import Overhear
from portcall.core.find.sighting import Method, Sighting
from portcall.core.find.snmp_system import DEFAULT_COMMUNITY
from portcall.core.plan.rows import ASSUMED_PREFIX
from portcall.core.talk.pacer import DEFAULT_PACE, sustained
from portcall.core.talk.probe import PROBE_TIME, AddressProbe, Free, Taken
from portcall.core.trouble import NotPossibleHere
from portcall.core.wire import cip
from portcall.host.filters import NO_CONVERSATIONS
from portcall.host.jobs.ask import ask_devices, ask_everybody
from portcall.host.leg import Leg
from portcall.host.link import Link
from portcall.host.runner import Runner, paced, rare_collections
from portcall.host.vantage import Vantage

ON_THE_LINK = (Method.LISTEN, Method.LLDP, Method.ARP, Method.IPV6, Method.DCP)
"""The methods that need raw Ethernet."""

ASKING_ALL = (Method.CIP, Method.BACNET, Method.MDNS)
ASKING_EACH = (
    Method.CIP,
    Method.SNMP,
    Method.NETBIOS,
    Method.MODBUS,
    Method.OPCUA,
    Method.WEB,
    Method.PORTS,
)

WIRE_METHODS = tuple(dict.fromkeys((*ON_THE_LINK, *ASKING_ALL, *ASKING_EACH)))
"""The methods that use the wire, in the order in which they start."""

QUICK_METHODS = (Method.LISTEN, Method.LLDP, Method.ARP, Method.DCP, Method.CIP)
"""Enough to know who is there; the rest is for knowing what it is."""

LISTEN_SECONDS = 4.0
"""A device without an address asks every few seconds; shorter than this misses it."""

BETWEEN_BROADCASTS = 0.3
"""Seconds between two questions to everybody: never two crowds of answers at once."""

_ASKING_SECONDS = 4.0
"""What asking a handful of devices takes, for the time left."""

_MOST_BORROWED = 4
_MOST_UNSEEN = 1024
_MOST_ASKED = 4096
"""Addresses asked in one look: whoever floods the wire with new ones is not followed."""
_CANDIDATES_AT_ONCE = 2
_CANDIDATE_BATCHES = 3
_IDENTIFIER = 0x5043


@dataclass(frozen=True, slots=True)
class NotRun:
    """A method that could not run here, and why."""

    method: Method
    reason: str


@dataclass(frozen=True, slots=True)
class Orders:
    """What to look for, and how. Times in seconds, pace in packets a second.

    ``subnets`` give the masks of foreign subnets; ``spared`` are addresses never borrowed;
    ``known`` are devices' addresses that need not be asked again what they are; ``within``, when
    there are any, are the only addresses that are asked; without ``borrows``, devices in foreign
    subnets are not asked.
    """

    ranges: Sequence[AddressRange] = ()
    pace: float | None = DEFAULT_PACE
    methods: Collection[Method] = WIRE_METHODS
    listen: float = LISTEN_SECONDS
    community: str = DEFAULT_COMMUNITY
    ports: Mapping[int, str] = field(default_factory=lambda: dict(USUAL_PORTS))
    subnets: Sequence[IPv4Network] = ()
    preferred: IPv4Address | None = None
    spared: Collection[IPv4Address] = ()
    known: Collection[IPv4Address] = ()
    within: Sequence[AddressRange] = ()
    borrows: bool = True


class Look:
    """A look in progress; ``run`` it once. ``not_run`` and ``borrowed`` say how it went."""

    def __init__(
        self,
        adapter: Adapter,
        orders: Orders,
        seen: Callable[[Sighting], None],
        outlook: Outlook | None = None,
    ) -> None:
        self.adapter = adapter
        self.orders = orders
        self.outlook = outlook or Outlook()
        self.not_run: list[NotRun] = []
        self.borrowed: list[Vantage] = []
        self.addresses: dict[IPv4Address, None] = {}
        """Every device's address seen so far that may be asked."""
        self.identified: set[IPv4Address] = set()
        """Those that said by CIP what they are."""
        self.asked: set[IPv4Address] = set(orders.known)
        """Those that are being asked what they are, or need not be."""
        self.rate = sustained(orders.pace or DEFAULT_PACE)
        """What may be expected to leave, in packets a second."""
        self.runner: Runner
        self.swept = asyncio.Event()
        self._seen = seen
        self._link: Link | None = None
        self._stack = AsyncExitStack()
        self._tasks: asyncio.TaskGroup | None = None
        self._networks: list[IPv4Network] = [own.network for own in adapter.interfaces]
        self._asks_devices = any(method in orders.methods for method in ASKING_EACH)
        self._broadcasting = asyncio.Lock()
        self._arrived: list[IPv4Address] = []
        self._came_through: set[IPv4Address] = set()

    async def run(self) -> None:
        """Look, to the end. When it is cancelled, sockets are closed and legs taken down."""
        async with self._stack:
            self._stack.enter_context(rare_collections())
            self.runner = self._stack.enter_context(paced(self.adapter.name, self.orders.pace))
            self._open_link()
            try:
                async with asyncio.TaskGroup() as self._tasks:
                    self._start_on_link(self._tasks)
                    self._take_at_their_word()
                    self._start_asking(self._tasks)
            except ExceptionGroup as group:
                raise _first_of(group) from None
        self._judge_answers()

    def report(self, seen: Sighting) -> None:
        """Take a sighting; a foreign address opens the way to its subnet."""
        self._seen(seen)
        if seen.method is Method.CIP and seen.address is not None:
            self.identified.add(seen.address)
        address = seen.address
        if not self._asks_devices or address is None or address in self.addresses:
            return
        if len(self.addresses) >= _MOST_ASKED:
            for method in ASKING_EACH:
                self.cannot(
                    method,
                    f"more than {_MOST_ASKED:,} addresses were seen, the others are listed and "
                    "not asked; name a smaller range",
                )
            return
        within = self.orders.within
        if not within or any(address in span for span in within):
            self.addresses[address] = None
            self._consider(address)

    def report_datagram(self, seen: Sighting) -> None:
        """Take a sighting that came by UDP: what a firewall lets in."""
        if seen.address is not None:
            self._came_through.add(seen.address)
        self.report(seen)

    def cannot(self, method: Method, reason: str) -> None:
        """Note a method that could not run, once for each reason."""
        note = NotRun(method, reason)
        if method in self.orders.methods and note not in self.not_run:
            self.not_run.append(note)

    async def in_turn(self) -> None:
        """Wait for the time in which a question may be put to everybody."""
        async with self._broadcasting:
            await asyncio.sleep(BETWEEN_BROADCASTS)

    def _open_link(self) -> None:
        """The adapter's link, where it may be opened; what needs it and cannot run is noted."""
        if not any(m in self.orders.methods for m in ON_THE_LINK) and self.adapter.addresses:
            return
        try:
            self._link = self._stack.enter_context(
                closing(Link(self.adapter.name, NO_CONVERSATIONS))
            )
        except NotPossibleHere as trouble:
            for method in ON_THE_LINK:
                self.cannot(method, str(trouble))
            return
        self._stack.callback(self.runner.drop, self._link)

    def _start_on_link(self, tasks: asyncio.TaskGroup) -> None:
        link, mac, orders = self._link, self.adapter.mac, self.orders
        wanted = orders.methods
        if link is None or mac is None:
            self.swept.set()
            return
        if Method.CIP in wanted:
            self.runner.start(Arrivals(mac, cip.PORT), link, self._arrived.append)
        if Method.LISTEN in wanted or Method.LLDP in wanted:
            listening = Overhear(mac, orders.listen, wanted)
            self._await(
                "listening", orders.listen, tasks, self.runner.start(listening, link, self.report)
            )
        if Method.DCP in wanted:
            asking = DcpIdentify(mac, _IDENTIFIER)
            self._await("DCP", 2 * DCP_WAIT, tasks, self.runner.start(asking, link, self.report))
        if Method.IPV6 in wanted:
            echo = Ipv6Echo(mac, _IDENTIFIER)
            self._await("IPv6", 2.0, tasks, self.runner.start(echo, link, self.report))
        if Method.ARP in wanted and orders.ranges:
            sweep = ArpSweep(mac, self.adapter.interfaces, sorted(orders.ranges, key=len))
            seconds = ROUNDS * (sweep.total / self.rate + SWEEP_WAIT)
            # Where no device is asked, what is seen goes straight on: a sweep sees ten thousands.
            end = self.runner.start(sweep, link, self.report if self._asks_devices else self._seen)
            self._await("ARP sweep", seconds, tasks, end, self.swept)
            return
        self.swept.set()
        if Method.ARP in wanted:
            self.cannot(
                Method.ARP,
                f"{self.adapter.name} has no address and no range was named; "
                "type one: portcall find 10.61.20.0/24",
            )

    def _take_at_their_word(self) -> None:
        """Where no sweep tells who is there, addresses that were named are asked unseen."""
        sweeps = self._link is not None and Method.ARP in self.orders.methods
        if not sweeps and sum(len(span) for span in self.orders.within) <= _MOST_UNSEEN:
            for address in (address for span in self.orders.within for address in span):
                self.addresses[address] = None
                self._consider(address)

    def _await(
        self,
        what: str,
        seconds: float,
        tasks: asyncio.TaskGroup,
        end: asyncio.Event,
        then: asyncio.Event | None = None,
    ) -> None:
        async def wait() -> None:
            with self.outlook.doing(what, seconds):
                await end.wait()
            if then is not None:
                then.set()

        tasks.create_task(wait())

    def _start_asking(self, tasks: asyncio.TaskGroup) -> None:
        own = [Vantage(self.adapter.name, each) for each in self.adapter.interfaces]
        for vantage in own:
            tasks.create_task(self._ask_from(vantage))
        if not own and self._link is None:
            reason = f"{self.adapter.name} has no address that a device could answer to"
            for method in (*ASKING_ALL, *ASKING_EACH):
                self.cannot(method, reason)

    async def _ask_from(self, vantage: Vantage) -> None:
        async with asyncio.TaskGroup() as tasks:
            cip_done = asyncio.Event()
            everybody = tasks.create_task(ask_everybody(self, vantage, cip_done))
            await self.swept.wait()
            await ask_devices(self, vantage, everybody, cip_done)

    def _consider(self, address: IPv4Address) -> None:
        """Borrow an address in the subnet of a device that is in none of ours."""
        if self._link is None or self._tasks is None or not self.orders.borrows:
            return
        if any(address in network for network in self._networks) or address in self.orders.known:
            return
        if len(self._networks) - len(self.adapter.interfaces) >= _MOST_BORROWED:
            return
        network = next(
            (subnet for subnet in self.orders.subnets if address in subnet),
            IPv4Network((address, ASSUMED_PREFIX), strict=False),
        )
        self._networks.append(network)
        self._tasks.create_task(self._ask_in(network))

    async def _ask_in(self, network: IPv4Network) -> None:
        expected = PROBE_TIME + _ASKING_SECONDS
        with self.outlook.doing(f"a free address in {network}", expected):
            free = await self._free_address(network)
        if free is None or self._link is None:
            self._cannot_ask_in(network, "no address was found free there")
            return
        own = IPv4Interface((free, network.prefixlen))
        try:
            leg = self._stack.enter_context(closing(Leg(self.runner, self.adapter.name, own)))
        except NotPossibleHere as trouble:
            self._cannot_ask_in(network, str(trouble))
            return
        self.borrowed.append(leg.vantage)
        await self._ask_from(leg.vantage)

    def _cannot_ask_in(self, network: IPv4Network, reason: str) -> None:
        for method in (*ASKING_ALL, *ASKING_EACH):
            self.cannot(method, f"not in {network}: {reason}")

    async def _free_address(self, network: IPv4Network) -> IPv4Address | None:
        """The first of some candidates that nobody answers for (RFC 5227)."""
        assert self._link is not None
        avoid = {*self.orders.spared, *self.addresses}
        choices = borrowable(network, self.orders.preferred, avoid)
        for _ in range(_CANDIDATE_BATCHES):
            batch = [a for a, _ in zip(choices, range(_CANDIDATES_AT_ONCE), strict=False)]
            free: set[IPv4Address] = set()

            def told(fact: Free | Taken, free: set[IPv4Address] = free) -> None:
                if isinstance(fact, Free):
                    free.add(fact.address)

            probes = [
                self.runner.run(AddressProbe(self._link.mac, address), self._link, told)
                for address in batch
            ]
            await asyncio.gather(*probes)
            best = next((a for a in batch if a in free and a not in self.addresses), None)
            if best is not None:
                return best
        return None

    def _judge_answers(self) -> None:
        """Answers that reached the adapter and no program: this computer's own firewall."""
        dropped = [
            str(a)
            for a in dict.fromkeys(self._arrived)
            if self.adapter.on_subnet_of(a) is not None and a not in self._came_through
        ]
        if dropped:
            others = f" and {len(dropped) - 5} more" if len(dropped) > 5 else ""
            self.cannot(
                Method.CIP,
                f"this computer's firewall drops the answers of {', '.join(dropped[:5])}{others}"
                f"; let UDP from port {cip.PORT} in",
            )


def _first_of(group: BaseException) -> BaseException:
    """The first real exception in a group of groups."""
    while isinstance(group, BaseExceptionGroup):
        group = group.exceptions[0]
    return group
