"""A simulated device: power, plug, address, and the services that go with them."""

from __future__ import annotations

import asyncio
import secrets
from functools import partial
from ipaddress import IPv4Address, IPv4Interface

from portcall.core.address import UNSPECIFIED
from portcall.core.assign.client import BootpClient, DhcpClient, Lost, Obtained
from portcall.core.conversation import Conversation, Datagram, Frame
from portcall.core.wire import bacnet, bootp, cip, dns, netbios, snmp
from portcall.host import cables
from portcall.host.datagrams import Datagrams
from portcall.host.link import Link
from portcall.host.namespaces import NetworkNamespace, allow_ipv6
from portcall.host.runner import Runner
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
from portcall.plant.services import SERVICES, listening_socket, start_service

ADAPTER = "eth0"

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
        self.interface: IPv4Interface | None = None
        self.powered = False
        self._runner = runner
        self._links: list[Link] = []
        self._datagrams: list[Datagrams] = []
        self._servers: list[asyncio.Server] = []
        self._starting: set[asyncio.Task[None]] = set()

    @property
    def state(self) -> str:
        """In a few words, for a person."""
        if not self.powered:
            return "no power"
        if self.interface is not None:
            return "has its address"
        if self.entry.asks is not None:
            return f"asks by {self.entry.asks.upper()}"
        return "has no address"

    async def power_up(self) -> None:
        """Start: with the address it was set to, or asking for one."""
        self.namespace.call(lambda: cables.set_link(ADAPTER, up=True))
        self.powered = True
        if Speaks.IPV6 in self.entry.speaks:
            self.namespace.call(lambda: allow_ipv6(ADAPTER))
        for spoken, conversation in _ON_THE_LINK.items():
            if spoken in self.entry.speaks:
                speaking = conversation(self.entry, self.entry.address)
                self._runner.start(speaking, self._open_link(), lambda fact: None)
        if self.entry.address is not None:
            await self._take(self.entry.address, self.entry.gateway)
        if self.entry.asks is not None:
            self._ask(self.entry.asks)
        if self.entry.gives is not None and self.interface is not None:
            self._talk(bootp.SERVER_PORT, Conversation())
            port = ServicePort(self.entry, self.entry.gives, self.interface)
            self._runner.start(port, self._open_link(), lambda event: None)

    async def power_down(self) -> None:
        """Stop: link gone, and with it every address it was not set to hold."""
        for task in list(self._starting):
            task.cancel()
        await self._release()
        for link in self._links:
            self._runner.drop(link)
            link.close()
        self._links.clear()
        self.namespace.call(lambda: cables.set_link(ADAPTER, up=False))
        self.powered = False

    async def power_cycle(self, off: float = 1.0) -> None:
        """Power off for some seconds, on again, and the time that it takes to start."""
        await self.power_down()
        await asyncio.sleep(off + self.entry.restart)
        await self.power_up()

    def _ask(self, how: Asks) -> None:
        xid = secrets.randbits(32)
        client: Conversation[Frame, Obtained | Lost]
        if how is Asks.BOOTP:
            client = BootpClient(self.entry.mac, xid, self.entry.ask_every)
        else:
            client = DhcpClient(
                self.entry.mac,
                xid,
                self.entry.host_name,
                longest_retry=self.entry.ask_every,
            )
        self._runner.start(client, self._open_link(), self._told)

    def _open_link(self) -> Link:
        link = self.namespace.call(lambda: Link(ADAPTER))
        self._links.append(link)
        return link

    def _told(self, fact: Obtained | Lost) -> None:
        if isinstance(fact, Obtained):
            if fact.interface == self.interface:
                return
            task = asyncio.ensure_future(self._take(fact.interface, fact.gateway))
        else:
            task = asyncio.ensure_future(self._release())
        self._starting.add(task)
        task.add_done_callback(self._starting.discard)

    async def _take(self, interface: IPv4Interface, gateway: IPv4Address | None) -> None:
        await self._release()
        self.namespace.call(lambda: cables.set_address(ADAPTER, interface, gateway))
        self.interface = interface
        if self.entry.asks is Asks.DHCP:
            # Renewed leases come to this port; unheard, the kernel would call it unreachable.
            self._talk(bootp.CLIENT_PORT, Conversation())
        for spoken in self.entry.speaks:
            if spoken in _RESPONDERS:
                port, responder = _RESPONDERS[spoken]
                self._talk(port, responder(self.entry, interface))
            if spoken in SERVICES:
                port, _ = SERVICES[spoken]
                sock = self.namespace.call(partial(listening_socket, port))
                self._servers.append(await start_service(spoken, self.entry, interface, sock))

    def _talk(self, port: int, conversation: Conversation[Datagram, None]) -> None:
        # Bound to its own address, a socket does not hear broadcasts.
        deaf = not self.entry.hears_broadcasts and self.interface is not None
        address = self.interface.ip if deaf and self.interface else UNSPECIFIED
        datagrams = self.namespace.call(lambda: Datagrams(ADAPTER, port, address))
        if port == dns.PORT and self.interface:
            datagrams.join(dns.GROUP, self.interface.ip)
        self._datagrams.append(datagrams)
        self._runner.start(conversation, datagrams, lambda fact: None)

    async def _release(self) -> None:
        for datagrams in self._datagrams:
            self._runner.drop(datagrams)
            datagrams.close()
        self._datagrams.clear()
        for server in self._servers:
            server.close()
        self._servers.clear()
        if self.interface is not None:
            self.namespace.call(lambda: cables.clear_addresses(ADAPTER))
        self.interface = None
