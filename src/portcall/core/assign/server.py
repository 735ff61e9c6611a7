"""The address server: BOOTP and DHCP answers to planned MACs, and to nobody else.

What a request leads to, by who asks and how (RFC 951 §7.3, RFC 2131 §4.3):

===============================  ==============================================================
from an unplanned MAC            nothing is sent; reported, with near misses
BOOTP request                    clear the address, BOOTREPLY
DHCPDISCOVER                     clear the address, DHCPOFFER
anything that names another      nothing; the client chose the other (§4.3.2, SELECTING)
server
DHCPREQUEST for the address      DHCPACK
DHCPREQUEST for another address  DHCPNAK: a planned MAC has one address, and this server owns it
DHCPDECLINE                      the address is in use; reported, not offered again for a while
DHCPRELEASE                      reported
DHCPINFORM                       DHCPACK without address or lease (§4.3.5)
===============================  ==============================================================

*Clear the address*: before it is given, an ARP probe asks whether another MAC has it (RFC 2131
§2.2). If one answers, the request is refused and the conflict reported. At the start, and after
giving an address, the server asks by ARP whether the device answers there, and reports that too.

Answers follow from the plan alone, so that a restarted server gives the same ones. Leases do not
end unless told to (RFC 2131 §3.3): the laptop leaves the site, the addresses must not.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum
from ipaddress import IPv4Address, IPv4Interface

from portcall.core.address import BROADCAST, UNSPECIFIED, Mac
from portcall.core.assign.near import near_misses
from portcall.core.conversation import Actions, Conversation, Frame, Report, Send
from portcall.core.find.sighting import Protocol
from portcall.core.plan import Plan, PlannedDevice
from portcall.core.printable import decoded
from portcall.core.probe import heard_arp
from portcall.core.wire import arp, bootp, dhcp, udp
from portcall.core.wire.bootp import BootpMessage, Op
from portcall.core.wire.dhcp import Code, MessageType, Options
from portcall.core.wire.octets import Malformed

CLEAR_WAIT = 0.3
"""Seconds to wait for another holder of the address before it is given. Old BOOTP clients ask
again after a second at the earliest, so the first request is the one that is answered."""

CLEAR_HOLDS = 30.0
"""Seconds for which a cleared address needs no new probe: a DHCP exchange, or a few retries."""

WATCH_INTERVAL = 1.0
WATCH_TIMES = 30
"""How often, and how many times, a device is asked whether it has taken its address."""

FIRST_LOOK_TIMES = 2
"""How many times each planned address is asked for at the start."""

DECLINED_REST = 30.0
"""Seconds for which a declined address is not offered again."""

_LIMITED_BROADCAST = IPv4Address("255.255.255.255")


class EventKind(StrEnum):
    """What happened; the names are part of ``assign --json``."""

    ASKED = "asked"
    OFFERED = "offered"
    ASSIGNED = "assigned"
    DECLINED = "declined"
    ANSWERING = "answering"
    KEPT = "kept"
    IGNORED = "ignored"
    REFUSED = "refused"


@dataclass(frozen=True, slots=True)
class Event:
    """Something an engineer watching the assignment wants to see."""

    kind: EventKind
    mac: Mac
    protocol: Protocol | None = None
    address: IPv4Address | None = None
    name: str | None = None
    detail: str = ""


@dataclass(frozen=True, slots=True)
class _Request:
    """What was asked, with what of the frame the answer needs."""

    frame: udp.UdpFrame
    message: BootpMessage
    options: Options

    @property
    def protocol(self) -> Protocol:
        return Protocol.BOOTP if self.options.message_type is None else Protocol.DHCP


@dataclass(slots=True)
class _Clearing:
    """A request that waits until its address is known to be free."""

    row: PlannedDevice
    request: _Request
    until: float


@dataclass(slots=True)
class _Watch:
    """An address that was given, until its device answers there."""

    row: PlannedDevice
    protocol: Protocol | None
    ask_at: float
    asks_left: int = WATCH_TIMES


class AddressServer(Conversation[Frame, Event]):
    """Serves the rows of a plan that have a MAC; never over by itself.

    ``own`` are the workstation's addresses; every row is in the subnet of one of them.
    """

    def __init__(
        self,
        own_mac: Mac,
        own: Sequence[IPv4Interface],
        plan: Plan,
        lease_seconds: int = dhcp.INFINITE,
    ) -> None:
        self._lease_seconds = lease_seconds
        self._own_mac = own_mac
        self._own_addresses = {
            row.address: next(mine.ip for mine in own if row.address in mine.network)
            for row in plan
            if row.mac is not None
        }
        self._plan = plan
        self._clearing: dict[Mac, _Clearing] = {}
        self._clear_until: dict[Mac, float] = {}
        self._resting: dict[Mac, float] = {}
        self._watches: dict[Mac, _Watch] = {}
        self._present: set[Mac] = set()

    def begin(self, now: float) -> Actions[Frame, Event]:
        """Ask which devices have their address already."""
        for row in self._plan:
            if row.mac is not None:
                self._watches[row.mac] = _Watch(row, None, now, asks_left=FIRST_LOOK_TIMES)
        yield from self.woke(now)

    def heard(self, packet: Frame, now: float) -> Actions[Frame, Event]:
        """A frame: ARP says who holds an address, UDP to port 67 asks for one."""
        yield from self._heard(packet, now)
        self._plan_wake()

    def _heard(self, packet: Frame, now: float) -> Actions[Frame, Event]:
        said = heard_arp(packet)
        if said is not None:
            yield from self._heard_arp(said)
            return
        request = _read(packet)
        if request is None or request.message.mac == self._own_mac:
            return
        row = self._plan.by_mac(request.message.mac)
        if row is None:
            yield from self._ignore(request)
        else:
            self._present.add(request.message.mac)
            yield from self._asked(row, request, now)

    def woke(self, now: float) -> Actions[Frame, Event]:
        """Give addresses that nobody else claimed; ask whether given ones are taken up."""
        for mac, clearing in list(self._clearing.items()):
            if clearing.until <= now:
                del self._clearing[mac]
                self._clear_until[mac] = now + CLEAR_HOLDS
                yield from self._give(clearing.row, clearing.request, now)
        for mac, watch in list(self._watches.items()):
            if watch.ask_at <= now:
                if watch.asks_left == 0:
                    del self._watches[mac]
                    continue
                watch.asks_left -= 1
                watch.ask_at = now + WATCH_INTERVAL
                own = self._own_addresses[watch.row.address]
                yield Send(Frame(arp.request(self._own_mac, own, watch.row.address)))
        self._plan_wake()

    def _plan_wake(self) -> None:
        times = [clearing.until for clearing in self._clearing.values()]
        times += [watch.ask_at for watch in self._watches.values()]
        self.wake_at = min(times, default=None)

    # Requests.

    def _ignore(self, request: _Request) -> Actions[Frame, Event]:
        near = near_misses(request.message.mac, self._plan, self._present)
        facts = [str(miss) for miss in near] or ["not in the plan"]
        facts += _introduction(request.options)
        yield self._event(EventKind.IGNORED, request, detail="; ".join(facts))

    def _asked(self, row: PlannedDevice, request: _Request, now: float) -> Actions[Frame, Event]:
        kind = request.options.message_type
        chosen = request.options.server_identifier
        if chosen not in (None, self._own_addresses[row.address]):
            detail = f"the device deals with another DHCP server, {chosen}"
            yield self._event(EventKind.IGNORED, request, row, detail)
            return
        if kind is MessageType.DECLINE:
            self._forget(request.message.mac)
            self._resting[request.message.mac] = now + DECLINED_REST
            detail = "the device says that another has this address"
            yield self._event(EventKind.DECLINED, request, row, detail)
            return
        if kind is MessageType.RELEASE:
            self._forget(request.message.mac)
            yield self._event(EventKind.ASKED, request, row, "gives its address back")
            return
        if kind not in (None, MessageType.DISCOVER, MessageType.REQUEST, MessageType.INFORM):
            return
        yield self._event(EventKind.ASKED, request, row, "; ".join(_introduction(request.options)))
        if kind is MessageType.REQUEST:
            wanted = request.options.requested_address or request.message.ciaddr
            if wanted != row.address:
                yield self._send(row, request, MessageType.NAK)
                detail = f"it asked for {wanted}; told to ask anew"
                yield self._event(EventKind.REFUSED, request, row, detail)
                return
        if kind is MessageType.INFORM:
            yield self._send(row, request, MessageType.ACK)
            return
        yield from self._clear_then_give(row, request, now)

    def _clear_then_give(
        self, row: PlannedDevice, request: _Request, now: float
    ) -> Actions[Frame, Event]:
        mac = request.message.mac
        if self._resting.get(mac, now) > now:
            detail = "declined by the device a moment ago; find who has the address"
            yield self._event(EventKind.REFUSED, request, row, detail)
        elif self._clear_until.get(mac, now) > now or request.message.ciaddr == row.address:
            # A device that renews has the address: asking whether it is free would find itself.
            yield from self._give(row, request, now)
        else:
            waiting = self._clearing.get(mac)
            until = waiting.until if waiting else now + CLEAR_WAIT
            self._clearing[mac] = _Clearing(row, request, until)
            if waiting is None:
                yield Send(Frame(arp.request(self._own_mac, UNSPECIFIED, row.address)))

    def _give(self, row: PlannedDevice, request: _Request, now: float) -> Actions[Frame, Event]:
        if request.options.message_type is MessageType.DISCOVER:
            yield self._send(row, request, MessageType.OFFER)
            yield self._event(EventKind.OFFERED, request, row)
            return
        answer = None if request.protocol is Protocol.BOOTP else MessageType.ACK
        yield self._send(row, request, answer)
        yield self._event(EventKind.ASSIGNED, request, row)
        self._watches[request.message.mac] = _Watch(row, request.protocol, now + WATCH_INTERVAL)

    def _forget(self, mac: Mac) -> None:
        for table in (self._clearing, self._clear_until, self._watches):
            table.pop(mac, None)

    # What ARP says.

    def _heard_arp(self, said: arp.Arp) -> Actions[Frame, Event]:
        row = self._plan.by_address(said.sender_address)
        if row is None or row.mac is None or said.sender_mac == self._own_mac:
            return
        if said.sender_mac == row.mac:
            watch = self._watches.pop(row.mac, None)
            if watch is not None:
                kind = EventKind.ANSWERING
                yield Report(Event(kind, row.mac, watch.protocol, row.address, row.name))
            return
        detail = f"{said.sender_mac} already has {row.address}; not given"
        clearing = self._clearing.pop(row.mac, None)
        watch = self._watches.get(row.mac)
        if clearing is not None:
            yield self._event(EventKind.REFUSED, clearing.request, row, detail)
        elif watch is not None and watch.protocol is None:
            del self._watches[row.mac]
            kind = EventKind.REFUSED
            yield Report(Event(kind, row.mac, None, row.address, row.name, detail))

    # Answers.

    def _event(
        self,
        kind: EventKind,
        request: _Request,
        row: PlannedDevice | None = None,
        detail: str = "",
    ) -> Report[Event]:
        address = row.address if row else None
        name = row.name if row else None
        return Report(Event(kind, request.message.mac, request.protocol, address, name, detail))

    def _send(self, row: PlannedDevice, request: _Request, kind: MessageType | None) -> Send[Frame]:
        """The reply to a request: ``kind`` None is a plain BOOTREPLY."""
        asked = request.message
        own = self._own_addresses[row.address]
        informs = request.options.message_type is MessageType.INFORM
        gives = kind is not MessageType.NAK and not informs
        reply = BootpMessage(
            Op.REPLY,
            asked.mac,
            asked.xid,
            flags=asked.flags,
            ciaddr=asked.ciaddr if kind is not MessageType.NAK else UNSPECIFIED,
            yiaddr=row.address if gives else UNSPECIFIED,
            siaddr=own if gives else UNSPECIFIED,
            giaddr=asked.giaddr,
            vendor=dhcp.encode(self._options(row, request, kind)),
        )
        frame_destination, destination, port = _destination(asked, reply, kind, request.frame)
        datagram = udp.UdpDatagram(bootp.SERVER_PORT, port, bootp.padded(bootp.encode(reply)))
        frame = udp.UdpFrame(self._own_mac, frame_destination, own, destination, datagram)
        return Send(Frame(udp.encode_frame(frame)))

    def _options(self, row: PlannedDevice, request: _Request, kind: MessageType | None) -> Options:
        network = row.interface.network
        entries: list[tuple[int, bytes]] = []
        if kind is not None:
            entries.append((Code.MESSAGE_TYPE, bytes((kind,))))
            entries.append((Code.SERVER_IDENTIFIER, self._own_addresses[row.address].packed))
        if kind is not MessageType.NAK:
            # RFC 2132 §3.3: the mask must come before the routers.
            entries.append((Code.SUBNET_MASK, network.netmask.packed))
            if row.gateway:
                entries.append((Code.ROUTERS, row.gateway.packed))
            if kind is not None and request.options.message_type is not MessageType.INFORM:
                entries.append((Code.LEASE_TIME, self._lease_seconds.to_bytes(4, "big")))
        identifier = request.options.get(Code.CLIENT_IDENTIFIER)
        if identifier is not None:
            # RFC 6842 §3: the client recognises its answer by it.
            entries.append((Code.CLIENT_IDENTIFIER, identifier))
        return Options(tuple(entries))


def _read(packet: Frame) -> _Request | None:
    """The request in a frame; None for all else. No cookie means no options (RFC 951)."""
    try:
        frame = udp.parse_frame(packet.data)
        if frame.datagram.destination_port != bootp.SERVER_PORT:
            return None
        message = bootp.parse(frame.datagram.payload)
        if message.op is not Op.REQUEST or message.mac.is_group:
            return None
        return _Request(frame, message, dhcp.parse(message) or Options())
    except Malformed:
        return None


def _introduction(options: Options) -> list[str]:
    """How the device introduced itself."""
    facts = []
    if options.host_name:
        facts.append(f"calls itself {decoded(options.host_name)}")
    vendor_class = options.get(Code.VENDOR_CLASS)
    if vendor_class:
        facts.append(f"class {decoded(vendor_class)}")
    return facts


def _destination(
    asked: BootpMessage, reply: BootpMessage, kind: MessageType | None, frame: udp.UdpFrame
) -> tuple[Mac, IPv4Address, int]:
    """Where a reply goes: MAC, address and port (RFC 2131 §4.1, RFC 1542 §4.1.2)."""
    if asked.giaddr != UNSPECIFIED:
        return frame.source_mac, asked.giaddr, bootp.SERVER_PORT
    if kind is MessageType.NAK:
        return BROADCAST, _LIMITED_BROADCAST, bootp.CLIENT_PORT
    if asked.ciaddr != UNSPECIFIED:
        return asked.mac, asked.ciaddr, bootp.CLIENT_PORT
    if asked.wants_broadcast:
        return BROADCAST, _LIMITED_BROADCAST, bootp.CLIENT_PORT
    # The client has no address yet and cannot answer ARP: straight to its MAC.
    return asked.mac, reply.yiaddr, bootp.CLIENT_PORT
