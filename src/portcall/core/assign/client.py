"""The other side of assignment: asking for an address by BOOTP or DHCP.

Simulated devices are made of these. They are honest clients: what they do is what RFC 951 §7 and
RFC 2131 §4.4 ask of one. Random numbers come from the caller, as ``xid``.
"""

from __future__ import annotations

from dataclasses import dataclass
from enum import Enum, auto
from ipaddress import IPv4Address, IPv4Interface

from portcall.core.address import BROADCAST, LIMITED_BROADCAST, NO_MAC, UNSPECIFIED, Mac
from portcall.core.talk.conversation import Actions, Conversation, Frame, Report, Send
from portcall.core.wire import bootp, dhcp, udp
from portcall.core.wire.bootp import BootpMessage, Op
from portcall.core.wire.dhcp import Code, MessageType, Options
from portcall.core.wire.octets import Malformed

_CLASSFUL_PREFIX = 24
"""The mask that a device assumes when a BOOTP reply has none: that of the old address classes."""


FIRST_RETRY = 4.0
LONGEST_RETRY = 64.0
"""Seconds to wait for an answer: 4 at first, then doubled up to 64 (RFC 2131 §4.1)."""

SHORTEST_RENEWAL_RETRY = 60.0
"""Seconds. RFC 2131 §4.4.5."""


@dataclass(frozen=True, slots=True)
class Obtained:
    """An address was given; ``lease_seconds`` is None when it is for ever."""

    interface: IPv4Interface
    gateway: IPv4Address | None
    server: IPv4Address
    lease_seconds: int | None = None
    server_mac: Mac = NO_MAC


@dataclass(frozen=True, slots=True)
class Lost:
    """The address may not be used any longer (RFC 2131 §4.4.5)."""


@dataclass(frozen=True, slots=True)
class _Reply:
    frame: udp.UdpFrame
    message: BootpMessage
    options: Options

    def interface(self) -> IPv4Interface | None:
        mask = self.options.subnet_mask
        prefix = _CLASSFUL_PREFIX if mask is None else dhcp.prefix_length(mask)
        if prefix is None or self.message.yiaddr == UNSPECIFIED:
            return None
        return IPv4Interface((self.message.yiaddr, prefix))


def _read_reply(packet: Frame, mac: Mac, xid: int) -> _Reply | None:
    try:
        heard = dhcp.parse_frame(packet.data)
    except Malformed:
        return None
    if heard is None or heard.frame.datagram.destination_port != bootp.CLIENT_PORT:
        return None
    frame, message, options = heard
    if message.op is not Op.REPLY or message.mac != mac or message.xid != xid:
        return None
    return _Reply(frame, message, options or Options())


def _frame(
    message: BootpMessage,
    to_mac: Mac = BROADCAST,
    to: IPv4Address = LIMITED_BROADCAST,
) -> Frame:
    datagram = udp.UdpDatagram(
        bootp.CLIENT_PORT, bootp.SERVER_PORT, bootp.padded(bootp.encode(message))
    )
    return Frame(udp.encode_frame(udp.UdpFrame(message.mac, to_mac, message.ciaddr, to, datagram)))


def release(mac: Mac, xid: int, own: IPv4Address, server: IPv4Address, server_mac: Mac) -> Frame:
    """Give a leased address back to its server (RFC 2131 §4.4.6); nobody answers to that."""
    message = _last_word(mac, xid, MessageType.RELEASE, server, ciaddr=own)
    return _frame(message, server_mac, server)


def decline(mac: Mac, xid: int, address: IPv4Address, server: IPv4Address) -> Frame:
    """Tell a server that somebody has the address it gave (RFC 2131 §4.4.1, table 5)."""
    wanted = (Code.REQUESTED_ADDRESS, address.packed)
    return _frame(_last_word(mac, xid, MessageType.DECLINE, server, wanted))


def _last_word(
    mac: Mac,
    xid: int,
    kind: MessageType,
    server: IPv4Address,
    *extra: tuple[int, bytes],
    ciaddr: IPv4Address = UNSPECIFIED,
) -> BootpMessage:
    entries = (
        (Code.MESSAGE_TYPE, bytes((kind,))),
        (Code.SERVER_IDENTIFIER, server.packed),
        *extra,
    )
    vendor = dhcp.encode(Options(entries))
    return BootpMessage(Op.REQUEST, mac, xid, ciaddr=ciaddr, vendor=vendor)


class BootpClient(Conversation[Frame, Obtained | Lost]):
    """Asks every ``interval`` seconds until it is answered; over then."""

    def __init__(self, mac: Mac, xid: int, interval: float, broadcast: bool = True) -> None:
        self._mac = mac
        self._xid = xid
        self._interval = interval
        self._broadcast = broadcast
        self._began = 0.0

    def begin(self, now: float) -> Actions[Frame, Obtained | Lost]:
        """Ask for the first time."""
        self._began = now
        yield from self.woke(now)

    def woke(self, now: float) -> Actions[Frame, Obtained | Lost]:
        """Ask (again)."""
        self.wake_at = now + self._interval
        seconds = min(int(now - self._began), 0xFFFF)
        request = BootpMessage(
            Op.REQUEST,
            self._mac,
            self._xid,
            secs=seconds,
            flags=bootp.encode_flags(self._broadcast),
            vendor=dhcp.encode(Options()).ljust(64, b"\0"),
        )
        yield Send(_frame(request))

    def heard(self, packet: Frame, now: float) -> Actions[Frame, Obtained | Lost]:
        """Take the first usable reply."""
        reply = _read_reply(packet, self._mac, self._xid)
        interface = reply.interface() if reply else None
        if self.over or reply is None or interface is None:
            return
        self.over = True
        self.wake_at = None
        yield Report(Obtained(interface, reply.options.router, reply.frame.source))


class _State(Enum):
    """The states of RFC 2131 §4.4, figure 5, without those for a remembered address."""

    INIT = auto()
    SELECTING = auto()
    REQUESTING = auto()
    BOUND = auto()
    RENEWING = auto()
    REBINDING = auto()


@dataclass(slots=True)
class _Lease:
    obtained: Obtained
    server_mac: Mac
    renew_at: float
    rebind_at: float
    ends_at: float


class DhcpClient(Conversation[Frame, Obtained | Lost]):
    """Asks, takes the first offer (of ``only_server``), renews; never over by itself."""

    def __init__(
        self,
        mac: Mac,
        xid: int,
        host_name: str = "",
        vendor_class: str = "",
        longest_retry: float = LONGEST_RETRY,
        only_server: IPv4Address | None = None,
    ) -> None:
        self._only_server = only_server
        self._mac = mac
        self._longest_retry = longest_retry
        self._first_retry = min(FIRST_RETRY, longest_retry)
        self._xid = xid
        self._host_name = host_name.encode()
        self._vendor_class = vendor_class.encode()
        self._state = _State.INIT
        self._retry = self._first_retry
        self._asked_at = 0.0
        self._offer: _Reply | None = None
        self._lease: _Lease | None = None

    def begin(self, now: float) -> Actions[Frame, Obtained | Lost]:
        """INIT: discover."""
        yield from self._discover(now)

    def woke(self, now: float) -> Actions[Frame, Obtained | Lost]:
        """A retry, T1, T2 or the end of the lease."""
        lease = self._lease
        if lease is None:
            if self._state is _State.REQUESTING and self._retry < self._longest_retry:
                yield from self._retransmit_request(now)
            else:
                yield from self._discover(now)
        elif now >= lease.ends_at:
            self._lease = None
            yield Report(Lost())
            yield from self._discover(now)
        else:
            self._state = _State.RENEWING if now < lease.rebind_at else _State.REBINDING
            limit = lease.rebind_at if now < lease.rebind_at else lease.ends_at
            # RFC 2131 §4.4.5: retry after half the time that is left, but not under a minute.
            self.wake_at = min(limit, now + max((limit - now) / 2, SHORTEST_RENEWAL_RETRY))
            self._asked_at = now
            yield self._renewal(lease)

    def heard(self, packet: Frame, now: float) -> Actions[Frame, Obtained | Lost]:
        """An offer, an acknowledgement or a refusal."""
        reply = _read_reply(packet, self._mac, self._xid)
        if reply is None:
            return
        kind = reply.options.message_type
        if kind is MessageType.OFFER and self._state is _State.SELECTING:
            server = reply.options.server_identifier
            wanted = self._only_server in (None, server)
            if server is not None and wanted and reply.interface() is not None:
                self._offer = reply
                self._state = _State.REQUESTING
                self._retry = self._first_retry
                yield from self._retransmit_request(now)
        elif self._state in (_State.REQUESTING, _State.RENEWING, _State.REBINDING):
            if kind is MessageType.ACK:
                yield from self._bind(reply)
            elif kind is MessageType.NAK:
                if self._lease is not None:
                    self._lease = None
                    yield Report(Lost())
                yield from self._discover(now)

    def _discover(self, now: float) -> Actions[Frame, Obtained | Lost]:
        if self._state is _State.SELECTING:
            self._retry = min(self._retry * 2, self._longest_retry)
        else:
            self._retry = self._first_retry
        self._state = _State.SELECTING
        self._offer = None
        self._asked_at = now
        self.wake_at = now + self._retry
        yield Send(_frame(self._message(MessageType.DISCOVER)))

    def _retransmit_request(self, now: float) -> Actions[Frame, Obtained | Lost]:
        offer = self._offer
        if offer is None or offer.options.server_identifier is None:
            return
        self._asked_at = now
        self.wake_at = now + self._retry
        self._retry *= 2
        extra = (
            (Code.REQUESTED_ADDRESS, offer.message.yiaddr.packed),
            (Code.SERVER_IDENTIFIER, offer.options.server_identifier.packed),
        )
        yield Send(_frame(self._message(MessageType.REQUEST, extra)))

    def _renewal(self, lease: _Lease) -> Send[Frame]:
        own = lease.obtained.interface.ip
        message = self._message(MessageType.REQUEST, ciaddr=own)
        if self._state is _State.RENEWING:
            return Send(_frame(message, lease.server_mac, lease.obtained.server))
        return Send(_frame(message))

    def _bind(self, reply: _Reply) -> Actions[Frame, Obtained | Lost]:
        interface = reply.interface()
        if interface is None:
            return
        options = reply.options
        seconds = options.lease_seconds
        server = options.server_identifier or reply.frame.source
        server_mac = reply.frame.source_mac
        if seconds in (None, dhcp.INFINITE):
            obtained = Obtained(interface, options.router, server, None, server_mac)
            never = float("inf")
            self._lease = _Lease(obtained, server_mac, never, never, never)
            self.wake_at = None
        else:
            assert seconds is not None
            obtained = Obtained(interface, options.router, server, seconds, server_mac)
            # RFC 2131 §4.4.5: T1 half, T2 seven eighths; §4.4.1: counted from the request.
            renew = options.renewal_seconds or seconds * 0.5
            rebind = options.rebinding_seconds or seconds * 0.875
            if not renew <= rebind <= seconds:
                # A server that says otherwise would have the lease end before it is renewed.
                renew, rebind = seconds * 0.5, seconds * 0.875
            start = self._asked_at
            self._lease = _Lease(
                obtained,
                server_mac,
                start + renew,
                start + rebind,
                start + seconds,
            )
            self.wake_at = self._lease.renew_at
        self._state = _State.BOUND
        yield Report(obtained)

    def _message(
        self,
        kind: MessageType,
        extra: tuple[tuple[int, bytes], ...] = (),
        ciaddr: IPv4Address = UNSPECIFIED,
    ) -> BootpMessage:
        wanted = (Code.SUBNET_MASK, Code.ROUTERS, Code.LEASE_TIME)
        entries: list[tuple[int, bytes]] = [(Code.MESSAGE_TYPE, bytes((kind,))), *extra]
        if self._host_name:
            entries.append((Code.HOST_NAME, self._host_name))
        if self._vendor_class:
            entries.append((Code.VENDOR_CLASS, self._vendor_class))
        entries.append((Code.PARAMETER_REQUEST, bytes(wanted)))
        return BootpMessage(
            Op.REQUEST,
            self._mac,
            self._xid,
            ciaddr=ciaddr,
            vendor=dhcp.encode(Options(tuple(entries))),
        )
