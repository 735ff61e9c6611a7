"""One look at the wire: every method that can run here, side by side, through one pacer.

Listening starts first and lasts until all else is done. Questions to everybody go one after the
other, so that their answers do not come at once; the sweep runs beside them; then each device that
was seen is asked (``ask``). A device in a subnet that the workstation is not in is asked from an
address borrowed there (``host.leg``), once nobody has answered for that; and where nobody named a
range, the whole of that subnet is swept meanwhile, because few devices speak unasked.
"""

from __future__ import annotations

import asyncio
from collections.abc import Callable, Iterable
from contextlib import AsyncExitStack, closing, suppress
from dataclasses import replace
from ipaddress import IPv4Address, IPv4Interface, IPv4Network
from itertools import islice

from portcall.core.adapters.adapter import Adapter
from portcall.core.address import SELF_ASSIGNED, AddressRange, Mac, assumed_network, hosts
from portcall.core.assign.lookout import LONGEST as LOOKOUT_SECONDS
from portcall.core.assign.lookout import Lookout, Offer
from portcall.core.counted import named
from portcall.core.find.arp_sweep import ANSWER_WAIT as SWEEP_WAIT
from portcall.core.find.arp_sweep import ROUNDS, ArpSweep
from portcall.core.find.arrivals import Arrival, Arrivals, dropped
from portcall.core.find.borrowed import borrowable
from portcall.core.find.outlook import Outlook
from portcall.core.find.overhear import Overhear
from portcall.core.find.protocols import BY_ADDRESS, ON_THE_LINK, PROTOCOLS, WIRE_METHODS
from portcall.core.find.sighting import Field, Method, Sighting, said_by
from portcall.core.find.switch_tables import SwitchTables
from portcall.core.talk.conversation import Frame
from portcall.core.talk.probe import PROBE_TIME
from portcall.core.trouble import NotPossibleHere
from portcall.core.wire import cip
from portcall.host.address_link import AddressLink
from portcall.host.filters import NO_CONVERSATIONS
from portcall.host.leg import Leg
from portcall.host.link import Link
from portcall.host.medium import Medium
from portcall.host.neighbours import known_neighbours
from portcall.host.pace import paced
from portcall.host.runner import End, Runner, rare_collections
from portcall.host.vantage import Only, Vantage
from portcall.jobs.look.ask import ask_devices, ask_everybody, ask_these
from portcall.jobs.look.findings import Findings, NotRun, Orders
from portcall.jobs.look.holders import MOST_TRIED, free_to_borrow
from portcall.jobs.telling import nobody
from portcall.jobs.together import begin, together

_BY_THE_SYSTEM = (Method.ARP, Method.DHCP)
"""What an operating system asks by itself, for whom sees no frames."""

_ASKING_SECONDS = 4.0
"""Seconds that asking a handful of devices takes; a rough figure, for the time left."""

_MOST_BORROWED = 4
_MOST_AT_STARTS = 8
"""Subnets in which an address is borrowed; in those of starting addresses nobody else is asked."""
_TRIED_BEFORE = 2 * MOST_TRIED
"""Candidates for the address that is borrowed for all, and the next, should one be taken since."""

_MOST_APART = 4
"""Addresses that several devices have, at which each of them is asked alone."""
_SHOWN_FIRST = 0.2
"""Seconds in which the sweep shows who is there, before a question to everybody brings a crowd of
answers."""

_LARGEST_SWEPT = 1024
"""Addresses of a subnet that is swept although nobody named it."""
_MOST_UNSEEN = 1024
_IDENTIFIER = 0x5043
_MOST_NAMED = 5


class Look:
    """A look in progress; ``run`` it once.

    ``not_run``, ``borrowed`` and ``unsearched`` say how it went: the last are subnets that were
    heard and in which nobody was looked for.
    """

    def __init__(
        self,
        adapter: Adapter,
        orders: Orders,
        seen: Callable[[Sighting], None],
        outlook: Outlook | None = None,
    ) -> None:
        self.adapter = adapter
        self.findings = Findings(
            orders,
            self._take,
            self._consider,
            self._consider_asking,
            outlook or Outlook(),
            self._consider_sharing,
        )
        self._seen = seen
        self._free_apart: dict[IPv4Network, asyncio.Future[IPv4Address | None]] = {}
        """Another address in a subnet: who stands there for all would refuse what is for one."""
        self._apart: dict[IPv4Address, None] = {}
        """Addresses that several devices have, each of which is asked alone."""
        self.borrowed: list[Vantage] = []
        self.unsearched: set[IPv4Network] = set()
        self.swept: list[AddressRange] = []
        """The addresses that were asked one by one who has them."""
        self._orders = orders
        self._runner: Runner
        self._sweeps = 0
        self._foreign = 0
        self._free: dict[IPv4Network, asyncio.Task[IPv4Address | None]] = {}
        self._link: Link | None = None
        self._system: AddressLink | None = None
        """What the operating system asks instead, without frames of ours."""
        self._stack = AsyncExitStack()
        self._tasks: asyncio.TaskGroup | None = None
        self._networks: list[IPv4Network] = [own.network for own in adapter.interfaces]
        self._arrived: list[Arrival] = []
        self._further: set[IPv4Address] = set()
        """Single addresses that were asked for besides the ranges."""
        self.asked_singly: set[IPv4Network] = set()
        """Subnets in which nobody else was looked for than who has one of those."""

    @property
    def methods(self) -> list[Method]:
        """The methods that were wanted."""
        return [each for each in WIRE_METHODS if each in self._orders.methods]

    @property
    def not_run(self) -> list[NotRun]:
        """The methods that could not run here, and why."""
        return self.findings.not_run

    @property
    def asked_nothing(self) -> bool:
        """Whether none of the methods could run: that nobody was heard tells nothing then."""
        could_not = {each.method for each in self.not_run}
        return not self.swept and could_not.issuperset(self._orders.methods)

    @property
    def foreign(self) -> int:
        """Packets that other programs sent by the adapter meanwhile."""
        return self._foreign

    @property
    def switches(self) -> list[SwitchTables]:
        """The tables that managed switches told."""
        return self.findings.switches

    async def run(self) -> None:
        """Look, to the end. When it is cancelled, sockets are closed and legs taken down."""
        async with self._stack:
            self._stack.enter_context(rare_collections())
            self._runner = self._stack.enter_context(paced(self.adapter.name, self._orders.pace))
            self._open_link()
            async with together() as self._tasks:
                self._start_on_link(self._tasks)
                self._probe_early()
                self._take_at_their_word()
                self._start_asking(self._tasks)
        self._foreign = self._runner.foreign
        self._judge_answers()

    def _take(self, seen: Sighting) -> None:
        """Pass a sighting on; who has which address shares one device's part of the pace."""
        if seen.method is Method.ARP and seen.address is not None and seen.mac is not None:
            self._runner.knows(seen.address, seen.mac)
        self._seen(seen)

    def _open_link(self) -> None:
        """Open the adapter's link where that is allowed; note the methods that cannot run without
        it.
        """
        if not any(m in self._orders.methods for m in ON_THE_LINK) and self.adapter.addresses:
            return
        try:
            link = Link(self.adapter.name, NO_CONVERSATIONS)
        except NotPossibleHere as trouble:
            self._system = self._open_system_link()
            for method in ON_THE_LINK:
                if self._system is None or method not in _BY_THE_SYSTEM:
                    self.findings.cannot(method, str(trouble))
            return
        self._link = self._stack.enter_context(self._runner.using(link))

    def _open_system_link(self) -> AddressLink | None:
        """What the operating system asks by itself, where this process sees no frames."""
        if not self.adapter.addresses:
            return None
        try:
            return self._stack.enter_context(self._runner.using(AddressLink(self.adapter.name)))
        except NotPossibleHere:
            return None

    def _start_by_system(self, link: AddressLink, tasks: asyncio.TaskGroup) -> None:
        """Have the system ask who is there, in the subnets that this computer is in."""
        orders, mac = self._orders, self.adapter.mac
        assert mac is not None
        if Method.DHCP in orders.methods and not orders.known:
            begin(tasks, self._look_for_servers(link, mac))
        near = [
            span for span in orders.ranges if link.reaches(span.first) and link.reaches(span.last)
        ]
        if Method.ARP in orders.methods and near:
            self.swept += near
            sweep = ArpSweep(mac, self.adapter.interfaces, sorted(near, key=len))
            self._begin_sweep(sweep, link, self.findings.report, tasks)
        else:
            self.findings.swept.set()
        for span in orders.ranges if Method.ARP in orders.methods else ():
            if span not in near:
                self.findings.cannot(
                    Method.ARP, f"{span}: this computer is in no subnet that has all of it"
                )

    async def _look_for_servers(self, link: AddressLink, mac: Mac) -> None:
        own = [each.ip for each in self.adapter.interfaces]
        servers = Lookout(mac, _IDENTIFIER, serving=own)
        try:
            with self.findings.outlook.doing("DHCP servers", LOOKOUT_SECONDS):
                await self._runner.run(servers, link, self._server_offered)
        except NotPossibleHere as trouble:
            self.findings.cannot(Method.DHCP, str(trouble))

    def _start_on_link(self, tasks: asyncio.TaskGroup) -> None:
        link, mac, orders = self._link, self.adapter.mac, self._orders
        wanted = orders.methods
        if self._system is not None:
            self._start_by_system(self._system, tasks)
            return
        if link is None or mac is None:
            self.findings.swept.set()
            return
        if Method.CIP in wanted:
            self._runner.start(Arrivals(mac, cip.PORT), link, self._arrived.append)
        if Method.LISTEN in wanted or Method.LLDP in wanted:
            listening = Overhear(mac, orders.listen, wanted)
            self._await(
                "listening",
                orders.listen,
                tasks,
                self._runner.start(listening, link, self.findings.report),
            )
        if Method.DHCP in wanted and not orders.known:
            own = [each.ip for each in self.adapter.interfaces]
            servers = Lookout(mac, _IDENTIFIER, serving=own)
            end = self._runner.start(servers, link, self._server_offered)
            self._await("DHCP servers", LOOKOUT_SECONDS, tasks, end)
        for method in wanted:
            by = PROTOCOLS[method].on_the_link
            if by is not None:
                asking = by.make(mac, _IDENTIFIER)
                end = self._runner.start(asking, link, self.findings.report)
                self._await(PROTOCOLS[method].shown, by.seconds, tasks, end)
        if Method.ARP in wanted and SELF_ASSIGNED in self._networks and not orders.within:
            self.findings.cannot(
                Method.ARP,
                f"{SELF_ASSIGNED}, where devices give themselves addresses, is not asked address "
                f"by address: portcall find {SELF_ASSIGNED} does, in some minutes",
            )
        for network in orders.too_large:
            self.findings.cannot(
                Method.ARP,
                f"{network} has {network.num_addresses:,} addresses, and is not asked address by "
                f"address: portcall find {network[256]}/24 takes a part of it",
            )
        if Method.ARP in wanted and (orders.ranges or orders.starting):
            self.swept += orders.ranges
            ranges = sorted(orders.ranges, key=len)
            sweep = ArpSweep(mac, self.adapter.interfaces, ranges, self._further_in)
            asks = self.findings.asks_devices
            report = self.findings.report if asks else self.findings.report_unasked
            self._begin_sweep(sweep, link, report, tasks)
            return
        self.findings.swept.set()
        if Method.ARP in wanted and not self._networks:
            self.findings.cannot(
                Method.ARP,
                f"{self.adapter.name} has no address and no range was named; "
                "type one: portcall find 10.61.20.0/24",
            )

    def _server_offered(self, offer: Offer) -> None:
        now = asyncio.get_running_loop().time()
        said = said_by(Method.DHCP, (Field.SERVES, "DHCP"))
        self.findings.report(Sighting(now, Method.DHCP, offer.server_mac, offer.server, said))

    def _take_at_their_word(self) -> None:
        """Where no sweep tells who is there, the addresses that were named are asked unseen."""
        sweeps = self._link is not None and Method.ARP in self._orders.methods
        if not sweeps and sum(len(span) for span in self._orders.within) <= _MOST_UNSEEN:
            for address in (address for span in self._orders.within for address in span):
                self.findings.may_ask(address)

    def _await(
        self,
        what: str,
        seconds: float,
        tasks: asyncio.TaskGroup,
        end: End,
    ) -> None:
        async def wait() -> None:
            with self.findings.outlook.doing(what, seconds):
                await end.wait()

        tasks.create_task(wait())

    def _begin_sweep(
        self,
        sweep: ArpSweep,
        link: Medium[Frame],
        report: Callable[[Sighting], None],
        tasks: asyncio.TaskGroup,
    ) -> None:
        self._sweeps += 1
        self.findings.swept.clear()
        begin(tasks, self._swept(sweep, link, report))

    async def _swept(
        self, sweep: ArpSweep, link: Medium[Frame], report: Callable[[Sighting], None]
    ) -> None:
        """Sweep to the end; when it is the last, nobody new is to be waited for."""
        seconds = ROUNDS * (sweep.total / self.findings.pace.to_all + SWEEP_WAIT)
        with self.findings.outlook.doing("ARP sweep", seconds):
            await self._runner.run(sweep, link, report)
        self._sweeps -= 1
        if not self._sweeps:
            self.findings.swept.set()

    def _further_in(self, sweep_round: int) -> Iterable[IPv4Address]:
        """Single addresses to be asked for besides the ranges, as a round of the sweep ends."""
        near = self._orders.ranges
        own = [each.network for each in self.adapter.interfaces]
        asked = [
            each
            for each in self._orders.further(sweep_round)
            if not any(each in span for span in near) and not any(each in net for net in own)
        ]
        self._further.update(asked)
        return asked

    def _start_asking(self, tasks: asyncio.TaskGroup) -> None:
        own = [Vantage(self.adapter.name, each) for each in self.adapter.interfaces]
        for vantage in own:
            tasks.create_task(self._ask_from(vantage, _SHOWN_FIRST))
        if not own and self._link is None:
            reason = f"{self.adapter.name} has no address that a device could answer to"
            for method in BY_ADDRESS:
                self.findings.cannot(method, reason)

    async def _ask_from(self, vantage: Vantage, later: float = 0.0) -> None:
        await asyncio.sleep(later)
        async with asyncio.TaskGroup() as tasks:
            cip_done = asyncio.Event()
            everybody = tasks.create_task(
                ask_everybody(self._runner, self.findings, vantage, cip_done)
            )
            assert vantage.interface is not None
            prefix = vantage.interface.network.prefixlen
            own = [each.network for each in self.adapter.interfaces]
            narrower = [each for each in own if each.prefixlen > prefix]
            await ask_devices(self._runner, self.findings, vantage, everybody, cip_done, narrower)
        self._tell_macs(vantage)

    def _tell_macs(self, vantage: Vantage) -> None:
        """Report the MACs, known to the kernel, of devices of which no ARP was heard."""
        assert vantage.interface is not None
        network = vantage.interface.network
        wanted = {address for address in self.findings.without_mac if address in network}
        if not wanted:
            return
        now = asyncio.get_running_loop().time()
        with suppress(OSError):
            neighbours = vantage.call(lambda: known_neighbours(vantage.adapter))
            for address in wanted & set(neighbours):
                mac = neighbours[address]
                self.findings.report(Sighting(now, Method.ARP, mac, address))

    def _consider(self, address: IPv4Address) -> None:
        """Borrow an address in the subnet of a device that is in none of ours."""
        if any(address in network for network in self._networks) or address in self._orders.known:
            return
        network = self._network_of(address)
        if address in self._further and network != SELF_ASSIGNED:
            # Single addresses are asked there: it is said that others were not.
            self.asked_singly.add(network)
        self._borrow_in(network)

    def _consider_asking(self) -> None:
        """A device that asks a DHCP server in vain gives itself an address, and asks on.

        RFC 3927 §2.11. Until it speaks from that address, only a question to all of them finds it.
        """
        if not self._orders.within and SELF_ASSIGNED not in self._networks:
            self._borrow_in(SELF_ASSIGNED)

    def _consider_sharing(self, address: IPv4Address, mac: Mac) -> None:
        """Ask one of several devices at an address by frames that go to its MAC alone."""
        orders = self._orders
        if self._link is None or self._tasks is None or not orders.borrows:
            return
        if not self.findings.asks_devices or mac == self._link.mac:
            return
        if address not in self._apart and len(self._apart) >= _MOST_APART:
            return
        self._apart[address] = None
        begin(self._tasks, self._ask_apart(address, mac))

    async def _ask_apart(self, address: IPv4Address, mac: Mac) -> None:
        network = self._network_of(address)
        if network not in self._free_apart:
            work = self._free_address(network, _TRIED_BEFORE)
            self._free_apart[network] = asyncio.ensure_future(work)
        free = await self._free_apart[network]
        if free is None:
            return
        own = IPv4Interface((free, network.prefixlen))

        def seen(sighting: Sighting) -> None:
            self._seen(sighting._replace(mac=mac))

        # What it says is its own word: it goes past those that know it by its address only. Which
        # other doors it has is not asked: two are asked already, and they have one pace.
        methods = [each for each in self._orders.methods if each is not Method.PORTS]
        orders = replace(self._orders, methods=methods)
        alone = Findings(orders, seen, nobody, lambda: None, self.findings.outlook)
        asked = asyncio.Event()
        asked.set()
        try:
            leg = Leg(self._runner, self.adapter.name, own, Only(address, mac))
        except NotPossibleHere:
            # Both were asked as one device, so the answer of either counts for that device.
            return
        with closing(leg):
            await ask_these(self._runner, alone, leg.vantage, [address], asked)

    def _borrow_in(self, network: IPv4Network) -> None:
        if self._link is None or self._tasks is None or not self._orders.borrows:
            return
        # The subnet of self-assigned addresses is at most one more, so it takes no other's place.
        singly = network in self.asked_singly
        most = _MOST_AT_STARTS if singly else _MOST_BORROWED
        foreign = self._networks[len(self.adapter.interfaces) :]
        alike = [each for each in foreign if (each in self.asked_singly) is singly]
        if network != SELF_ASSIGNED and len(alike) - alike.count(SELF_ASSIGNED) >= most:
            self._cannot_ask_in(network, f"an address is borrowed in {most} at most")
            if not self._orders.within and not self._is_swept(network):
                self.unsearched.add(network)
            return
        self._networks.append(network)
        self._sweep(network, self._tasks)
        begin(self._tasks, self._ask_in(network))

    async def _ask_in(self, network: IPv4Network) -> None:
        expected = PROBE_TIME + _ASKING_SECONDS
        with self.findings.outlook.doing(f"a free address in {network}", expected):
            free = await self._probed(network)
            if free in self.findings.addresses:
                # Another host took that address since it was probed.
                free = await self._free_address(network)
        if free is None or self._link is None:
            self._cannot_ask_in(network, "no address was found free there")
            return
        own = IPv4Interface((free, network.prefixlen))
        try:
            leg = self._stack.enter_context(closing(Leg(self._runner, self.adapter.name, own)))
        except NotPossibleHere as trouble:
            self._cannot_ask_in(network, str(trouble))
            return
        self.borrowed.append(leg.vantage)
        await self._ask_from(leg.vantage)

    def _sweep(self, network: IPv4Network, tasks: asyncio.TaskGroup) -> None:
        """Look for everybody in a subnet that was only heard of."""
        orders, link = self._orders, self._link
        wanted = Method.ARP in orders.methods and not orders.within and not orders.known
        if link is None or not wanted or network == SELF_ASSIGNED or self._is_swept(network):
            return
        if network in self.asked_singly:
            return
        if network.num_addresses > _LARGEST_SWEPT:
            self.unsearched.add(network)
            return
        self.swept.append(hosts(network))
        sweep = ArpSweep(link.mac, (), (hosts(network),))
        self._begin_sweep(sweep, link, self.findings.report, tasks)

    def _is_swept(self, network: IPv4Network) -> bool:
        """Whether this look has ranges in a subnet: then somebody said where to look in it.

        Single addresses of the plan say nothing of the others.
        """
        spared = frozenset(self._orders.spared)
        return any(
            span.first in network and any(address not in spared for address in span)
            for span in self._orders.ranges
        )

    def _cannot_ask_in(self, network: IPv4Network, reason: str) -> None:
        for method in BY_ADDRESS:
            self.findings.cannot(method, f"not in {network}: {reason}")

    def _probe_early(self) -> None:
        """Look for an address to borrow where the site, the plan or who typed expects devices.

        It takes some seconds, in which devices are heard and the sweep goes on.
        """
        orders = self._orders
        if self._link is None or not self.findings.asks_devices or not orders.borrows:
            return
        if orders.known:
            return  # Most devices are known, and nothing has to be borrowed for them.
        expected = [span.first for span in orders.within] or [
            *(subnet.network_address + 1 for subnet in orders.subnets),
            *orders.spared,
            *(span.first for span in orders.ranges),
        ]
        networks = dict.fromkeys(self._network_of(address) for address in expected)
        foreign = [each for each in networks if each not in self._networks]
        for network in foreign[:_MOST_BORROWED]:
            self._probed(network)
        if not orders.within and SELF_ASSIGNED not in self._networks:
            self._probed(SELF_ASSIGNED)

    def _network_of(self, address: IPv4Address) -> IPv4Network:
        known = (*self._networks, *self._orders.subnets)
        return next((each for each in known if address in each), assumed_network(address))

    def _probed(self, network: IPv4Network) -> asyncio.Task[IPv4Address | None]:
        """The address to borrow in a subnet; it is looked for once."""
        assert self._tasks is not None
        if network not in self._free:
            self._free[network] = self._tasks.create_task(self._free_address(network))
        return self._free[network]

    async def _free_address(self, network: IPv4Network, tried: int = 0) -> IPv4Address | None:
        """The first of some candidates that nobody answers for (RFC 5227).

        So many are passed over, because they are tried already.
        """
        assert self._link is not None
        own = (each.ip for each in self.adapter.interfaces)
        avoid = {*self._orders.spared, *self.findings.addresses, *own}
        orders = self._orders
        choices = borrowable(network, orders.preferred, avoid, orders.starting)
        choices = islice(choices, tried, None)
        return await free_to_borrow(self._runner, self._link, choices, self.findings.addresses)

    def _judge_answers(self) -> None:
        """Note answers that reached the adapter and no program, though one was waiting for them:
        this computer's own firewall dropped them.
        """
        lost = [
            str(address)
            for address in dropped(self._arrived, self.findings.ears, self.findings.came_through)
            if self.adapter.on_subnet_of(address) is not None
        ]
        if lost:
            self.findings.cannot(
                Method.CIP,
                f"this computer's firewall drops the answers of {named(lost, _MOST_NAMED)}"
                f"; let UDP from port {cip.PORT} in",
            )
