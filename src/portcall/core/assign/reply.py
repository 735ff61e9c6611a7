"""The replies of an address server: the message, its options, and its destination."""

from __future__ import annotations

from collections.abc import Hashable, Iterator
from dataclasses import dataclass, field
from ipaddress import IPv4Address, IPv4Network

from portcall.core.address import BROADCAST, LIMITED_BROADCAST, UNSPECIFIED, Mac, is_host_name
from portcall.core.finding import Name
from portcall.core.plan.rows import Surroundings
from portcall.core.talk.conversation import Frame
from portcall.core.talk.request import Request
from portcall.core.wire import bootp, dhcp, udp
from portcall.core.wire.bootp import BootpMessage, Op
from portcall.core.wire.dhcp import Code, MessageType, Options

BOOTP_ROOM = 64
"""Octets of the vendor area that every BOOTP client has room for (RFC 951 §3)."""

_HEADERS = 28
"""Octets of IP and UDP headers, which option 57 counts in (RFC 2132 §9.10)."""
_LARGEST = 1500
"""No reply is larger than a frame takes, whatever the client would take."""
_FIXED = 236
_SHAPING = (
    Code.PARAMETER_REQUEST,
    Code.CLIENT_IDENTIFIER,
    Code.RELAY_AGENT,
    Code.LARGEST_MESSAGE,
)
"""Those options of a request that decide what a reply holds, beside who asks and how."""
_MOST_TOLD = 16
_XID = 4
"""Where the number of the exchange stands in a message (RFC 951 §3)."""


@dataclass(frozen=True, slots=True)
class Terms:
    """The address and options for one device. ``name`` is its row's, None for a lent address."""

    address: IPv4Address
    network: IPv4Network
    own: IPv4Address | None
    """The workstation's address in that subnet, if it has one."""
    gateway: IPv4Address | None = None
    name: Name | None = None
    lease_seconds: int = dhcp.INFINITE
    told: dict[Hashable, bytes] = field(default_factory=dict, compare=False, repr=False)
    """Replies that were made with these terms, by who asked and what; the number of the exchange is
    zero in them.
    """


@dataclass(frozen=True, slots=True)
class Replies:
    """Makes the replies of one server; ``broadcast`` is for devices that hear no unicast."""

    own_mac: Mac
    surroundings: Surroundings = field(default_factory=Surroundings)
    broadcast: bool = False

    def frame(
        self, request: Request, terms: Terms, own: IPv4Address, kind: MessageType | None
    ) -> Frame:
        """The reply to a request, from the address ``own``; ``kind`` None is plain BOOTREPLY."""
        asked = request.message
        key = (
            asked.mac,
            own,
            kind,
            request.kind,
            asked.flags,
            asked.ciaddr,
            request.relay,
            request.frame.source_mac if request.relay or request.renews_from_afar else None,
            *(request.options.get(code) for code in _SHAPING),
        )
        told = terms.told.get(key)
        if told is None:
            if len(terms.told) >= _MOST_TOLD:
                terms.told.clear()
            told = terms.told[key] = self._made(request, terms, own, kind)
        # Devices repeat the same request; only the transaction number differs.
        return Frame(udp.with_changed(told, _XID, asked.xid))

    def _made(
        self, request: Request, terms: Terms, own: IPv4Address, kind: MessageType | None
    ) -> bytes:
        asked = request.message
        refused = kind is MessageType.NAK
        gives = not refused and request.kind is not MessageType.INFORM
        options = Options(self._options(request, terms, own, kind))
        if kind is None:
            vendor, file, sname = dhcp.encode_fitted(options, BOOTP_ROOM, overload=False)
        else:
            room = min(request.options.largest_message, _LARGEST) - _HEADERS - _FIXED
            vendor, file, sname = dhcp.encode_fitted(options, room, overload=True)
        reply = BootpMessage(
            Op.REPLY,
            asked.mac,
            0,
            # RFC 2131 §4.3.2: a relay agent must broadcast a refusal, the address is wrong there.
            flags=asked.flags | bootp.encode_flags(broadcast=refused and request.relay is not None),
            ciaddr=UNSPECIFIED if refused else asked.ciaddr,
            yiaddr=terms.address if gives else UNSPECIFIED,
            siaddr=own if gives else UNSPECIFIED,
            giaddr=asked.giaddr,
            sname=sname.ljust(dhcp.SNAME_SIZE, b"\0"),
            file=file.ljust(dhcp.FILE_SIZE, b"\0"),
            vendor=vendor,
        )
        mac, address, port = self._destination(request, terms, refused)
        datagram = udp.UdpDatagram(bootp.SERVER_PORT, port, bootp.padded(bootp.encode(reply)))
        return udp.encode_frame(udp.UdpFrame(self.own_mac, mac, own, address, datagram))

    def _options(
        self, request: Request, terms: Terms, own: IPv4Address, kind: MessageType | None
    ) -> Iterator[tuple[int, bytes]]:
        """The options, the most important first: what does not fit is left out from the end."""
        if kind is not None:
            yield Code.MESSAGE_TYPE, bytes((kind,))
            yield Code.SERVER_IDENTIFIER, own.packed
            if kind is not MessageType.NAK and request.kind is not MessageType.INFORM:
                yield from _times(terms.lease_seconds)
        if kind is not MessageType.NAK:
            yield from self._settings(request, terms)
        for code in (Code.CLIENT_IDENTIFIER, Code.RELAY_AGENT):
            # RFC 6842 §3: the client knows its answer by its identifier. RFC 3046 §2.2: the relay
            # agent gets back what it added, and that comes last.
            echoed = request.options.get(code)
            if echoed is not None:
                yield code, echoed

    def _settings(self, request: Request, terms: Terms) -> Iterator[tuple[int, bytes]]:
        """The options that the client asked for and that are known; mask and router for a client
        that names none.

        RFC 2132 §3.3: the mask comes before the routers. The mask is sent unasked, too: a device
        that guesses its mask can be reached by some hosts and not by others.
        """
        there: dict[int, bytes] = {}
        if terms.gateway:
            there[Code.ROUTERS] = terms.gateway.packed
        yield Code.SUBNET_MASK, terms.network.netmask.packed
        wanted = request.options.get(Code.PARAMETER_REQUEST)
        if wanted is None:
            yield from there.items()
            return
        around = self.surroundings
        if terms.name is not None and is_host_name(terms.name):
            there[Code.HOST_NAME] = terms.name.encode()
        if around.domain:
            there[Code.DOMAIN_NAME] = around.domain.encode()
        if around.domain_servers:
            there[Code.DOMAIN_SERVERS] = b"".join(a.packed for a in around.domain_servers)
        if around.time_servers:
            there[Code.TIME_SERVERS] = b"".join(a.packed for a in around.time_servers)
        for code in dict.fromkeys(wanted):
            if code in there:
                yield code, there[code]

    def _destination(
        self, request: Request, terms: Terms, refused: bool
    ) -> tuple[Mac, IPv4Address, int]:
        """MAC, address and port (RFC 2131 §4.1, RFC 1542 §4.1.2)."""
        asked = request.message
        if request.relay:
            return request.frame.source_mac, request.relay, bootp.SERVER_PORT
        if refused or self.broadcast:
            return BROADCAST, LIMITED_BROADCAST, bootp.CLIENT_PORT
        if asked.ciaddr != UNSPECIFIED:
            mac = request.frame.source_mac if request.renews_from_afar else asked.mac
            return mac, asked.ciaddr, bootp.CLIENT_PORT
        if asked.wants_broadcast:
            return BROADCAST, LIMITED_BROADCAST, bootp.CLIENT_PORT
        # The client has no address yet and cannot answer ARP: straight to its MAC.
        return asked.mac, terms.address, bootp.CLIENT_PORT


def _times(lease_seconds: int) -> Iterator[tuple[int, bytes]]:
    yield Code.LEASE_TIME, lease_seconds.to_bytes(4, "big")
    if lease_seconds != dhcp.INFINITE:
        # RFC 2131 §4.4.5: T1 half of it, T2 seven eighths.
        yield Code.RENEWAL_TIME, (lease_seconds // 2).to_bytes(4, "big")
        yield Code.REBINDING_TIME, (lease_seconds * 7 // 8).to_bytes(4, "big")
