"""A simulated device: power, plug, address, and the services that go with them."""

from __future__ import annotations

import asyncio
import secrets
import socket
from collections.abc import Callable, Coroutine
from functools import partial
from ipaddress import IPv4Address, IPv4Interface
from typing import TypeVar

from portcall.core.address import UNSPECIFIED
from portcall.core.assign.client import BootpClient, DhcpClient, Lost, Obtained
from portcall.core.talk.conversation import Conversation, Datagram, Frame
from portcall.core.wire import bacnet, bootp, cip, dns, netbios, snmp
from portcall.host.datagrams import Datagrams
from portcall.host.link import Link
from portcall.host.linux import cables
from portcall.host.linux.namespaces import NetworkNamespace, allow_ipv6, forward
from portcall.host.medium import Medium
from portcall.host.runner import Runner
from portcall.plant.memory import Memory
from portcall.plant.responders import (
    Announcer,
    BacnetResponder,
    IdentityResponder,
    MdnsResponder,
    NetbiosResponder,
    Responder,
    ServicePort,
    SnmpResponder,
    Station,
)
from portcall.plant.scenario import Asks, DeviceEntry, Speaks
from portcall.plant.services import (
    SERVICES,
    listening_socket,
    start_greeter,
    start_service,
)

P = TypeVar("P")
F = TypeVar("F")

ADAPTER = "eth0"


def leg_name(number: int) -> str:
    """The adapter of a router on its ``number``th other wire."""
    return f"eth{number}"


_ANSWER_TIME = 0.05
"""Seconds for the answer to a request that sets an address, before the old address goes."""

_RESPONDERS: dict[Speaks, tuple[int, type[Responder]]] = {
    Speaks.CIP: (cip.PORT, IdentityResponder),
    Speaks.SNMP: (snmp.PORT, SnmpResponder),
    Speaks.NETBIOS: (netbios.PORT, NetbiosResponder),
    Speaks.MDNS: (dns.PORT, MdnsResponder),
    Speaks.BACNET: (bacnet.PORT, BacnetResponder),
}

_ON_THE_LINK = {Speaks.DCP: Station, Speaks.LLDP: Announcer}


class SimulatedDevice:
    """One device in a namespace of its own, whose only adapter is ``eth0``."""

    def __init__(self, entry: DeviceEntry, namespace: NetworkNamespace, runner: Runner) -> None:
        self.entry = entry
        self.namespace = namespace
        self.powered = False
        self.memory = Memory(entry, self._apply, self._restart)
        self._runner = runner
        self._links: list[Link] = []
        self._client: Link | None = None
        self._applied: tuple[IPv4Interface, IPv4Address | None] | None = None
        self._legs: list[IPv4Interface] = []
        self._datagrams: list[Datagrams] = []
        self._servers: dict[int, asyncio.Server] = {}
        self._endings: set[asyncio.Task[None]] = set()
        self._starting: set[asyncio.Task[None]] = set()
        self._one_at_a_time = asyncio.Lock()

    @property
    def interface(self) -> IPv4Interface | None:
        """The address in force."""
        return self.memory.interface

    @property
    def state(self) -> str:
        """In a few words, for a person."""
        memory = self.memory
        if not self.powered:
            return "no power"
        if memory.shown:
            return f"was told to show itself, {memory.shown}×"
        if memory.interface is not None:
            return "keeps its address" if memory.asks is None else "has its address"
        if memory.asks is not None:
            return f"asks by {memory.asks.upper()}"
        return "has no address"

    async def power_up(self) -> None:
        """Start: with the address it was set to, or asking for one."""
        memory = self.memory
        self.namespace.call(lambda: cables.set_link(ADAPTER, up=True))
        self.powered = True
        self.set_legs(up=True)
        if Speaks.IPV6 in self.entry.speaks:
            self.namespace.call(lambda: allow_ipv6(ADAPTER))
        if memory.stored is not None:
            await self._take(memory.stored, memory.stored_gateway)
        for spoken, conversation in _ON_THE_LINK.items():
            if spoken in self.entry.speaks:
                self._converse(conversation(memory), self._open_link())
        if memory.asks is not None:
            self._ask(memory.asks)
        if self.entry.gives is not None and self.interface is not None:
            self._talk(bootp.SERVER_PORT, Conversation())
            port = ServicePort(self.entry, self.entry.gives, self.interface)
            self._converse(port, self._open_link())

    async def power_down(self) -> None:
        """Stop: link gone, and with it every address it was not set to hold."""
        for task in self._starting - {asyncio.current_task()}:
            task.cancel()
        await self._release()
        for link in self._links:
            self._runner.drop(link)
            link.close()
        self._links.clear()
        self._client = None
        self.set_legs(up=False)
        self.namespace.call(lambda: cables.set_link(ADAPTER, up=False))
        self.powered = False

    async def power_cycle(self, off: float = 1.0) -> None:
        """Power off for some seconds, on again, and the time that it takes to start."""
        await self.power_down()
        await asyncio.sleep(off + self.entry.restart)
        await self.power_up()

    def set_legs(self, up: bool) -> None:
        """Switch a router's other wires on, and forward to them, or off."""
        self._legs = list(self.memory.legs)
        for number in range(1, 1 + len(self.entry.legs)):
            name = leg_name(number)
            self.namespace.call(partial(cables.set_link, name, up=up))
            if up:
                address = self.memory.legs[number - 1]
                self.namespace.call(partial(cables.set_address, name, address, None))
                self.namespace.call(forward)

    async def readdress(
        self, interface: IPv4Interface, gateway: IPv4Address | None, lasting: bool = True
    ) -> None:
        """Have another address from now on, without being told so by anybody on the wire."""
        async with self._one_at_a_time:
            if lasting:
                self.memory.stored, self.memory.stored_gateway = interface, gateway
            await self._take(interface, gateway)

    async def speak_otherwise(self, port: int) -> None:
        """Have another program at a port: it greets in words, whatever it is asked."""
        if port in self._servers:
            self._servers.pop(port).close()
        self._servers[port] = await start_greeter(self._listen(port))

    async def speak_again(self, port: int) -> None:
        """Have its own program at a port again, if it has one there."""
        if port in self._servers:
            self._servers.pop(port).close()
        for spoken in self.entry.speaks:
            if SERVICES.get(spoken, (0,))[0] == port and self.interface is not None:
                sock = self._listen(port)
                self._servers[port] = await start_service(spoken, self.memory, sock)

    def _listen(self, port: int) -> socket.socket:
        return self.namespace.call(partial(listening_socket, port))

    def _ask(self, how: Asks) -> None:
        xid = secrets.randbits(32)
        memory = self.memory
        client: Conversation[Frame, Obtained | Lost]
        if how is Asks.BOOTP:
            client = BootpClient(self.entry.mac, xid, self.entry.ask_every)
        else:
            client = DhcpClient(
                self.entry.mac,
                xid,
                memory.host_name,
                longest_retry=self.entry.ask_every,
            )
        self._client = self._open_link()
        self._converse(client, self._client, self._told)

    def _converse(
        self,
        conversation: Conversation[P, F],
        medium: Medium[P],
        report: Callable[[F], None] = lambda fact: None,
    ) -> None:
        """Begin a conversation; one that raises is told of by the loop, and the others go on."""
        ending = asyncio.ensure_future(self._runner.start(conversation, medium, report).wait())
        self._endings.add(ending)
        ending.add_done_callback(self._endings.discard)

    def _open_link(self) -> Link:
        link = self.namespace.call(lambda: Link(ADAPTER))
        self._links.append(link)
        return link

    def _told(self, fact: Obtained | Lost) -> None:
        if isinstance(fact, Obtained):
            if fact.interface == self.interface:
                return
            self._begin(self._take(fact.interface, fact.gateway))
        else:
            self._begin(self._release())

    def _begin(self, work: Coroutine[None, None, None]) -> None:
        async def in_turn() -> None:
            async with self._one_at_a_time:
                await work

        task = asyncio.ensure_future(in_turn())
        self._starting.add(task)
        task.add_done_callback(self._starting.discard)

    def _apply(self) -> None:
        """Its settings were changed: they are put in force as soon as the answer is out."""

        async def apply() -> None:
            await asyncio.sleep(_ANSWER_TIME)
            memory = self.memory
            if memory.asks is None and self._client is not None:
                self._runner.drop(self._client)
                self._client = None
            if memory.interface is None:
                await self._release()
            elif (memory.interface, memory.gateway) != self._applied:
                await self._take(memory.interface, memory.gateway)
            if memory.legs != self._legs:
                for number, address in enumerate(memory.legs, 1):
                    name = leg_name(number)
                    self.namespace.call(partial(cables.clear_addresses, name))
                    self.namespace.call(partial(cables.set_address, name, address, None))
                self._legs = list(memory.legs)

        self._begin(apply())

    def _restart(self) -> None:
        async def restart() -> None:
            await asyncio.sleep(_ANSWER_TIME)
            await self.power_cycle(off=0.0)

        self._begin(restart())

    async def _take(self, interface: IPv4Interface, gateway: IPv4Address | None) -> None:
        await self._release()
        self.namespace.call(lambda: cables.set_address(ADAPTER, interface, gateway))
        self.memory.interface, self.memory.gateway = self._applied = interface, gateway
        if self.memory.asks is Asks.DHCP:
            # Renewed leases come to this port; if nobody listened, the kernel would report it
            # unreachable.
            self._talk(bootp.CLIENT_PORT, Conversation())
        for spoken in self.entry.speaks:
            if spoken in _RESPONDERS:
                port, responder = _RESPONDERS[spoken]
                self._talk(port, responder(self.memory))
            if spoken in SERVICES:
                port, _ = SERVICES[spoken]
                sock = self._listen(port)
                self._servers[port] = await start_service(spoken, self.memory, sock)

    def _talk(self, port: int, conversation: Conversation[Datagram, None]) -> None:
        # Bound to its own address, a socket does not hear broadcasts.
        deaf = not self.entry.hears_broadcasts and self.interface is not None
        address = self.interface.ip if deaf and self.interface else UNSPECIFIED
        datagrams = self.namespace.call(lambda: Datagrams(ADAPTER, port, address))
        if port == dns.PORT and self.interface:
            datagrams.join(dns.GROUP, self.interface.ip)
        self._datagrams.append(datagrams)
        self._converse(conversation, datagrams)

    async def _release(self) -> None:
        for datagrams in self._datagrams:
            self._runner.drop(datagrams)
            datagrams.close()
        self._datagrams.clear()
        for server in self._servers.values():
            server.close()
        self._servers.clear()
        if self._applied is not None:
            self.namespace.call(lambda: cables.clear_addresses(ADAPTER))
        self.memory.interface = self.memory.gateway = self._applied = None
