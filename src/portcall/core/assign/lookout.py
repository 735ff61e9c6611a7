"""Which DHCP servers are on this wire, and what they would give this computer.

This is asked before serving: two DHCP servers on one wire give conflicting addresses, so this one
must give way. It is also asked before taking an address from a device that hands them out.
"""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass
from ipaddress import IPv4Address, IPv4Interface, IPv4Network

from portcall.core.address import (
    BROADCAST,
    LIMITED_BROADCAST,
    UNSPECIFIED,
    AddressError,
    Mac,
    check_device_address,
)
from portcall.core.talk.conversation import Actions, Conversation, Frame, Report, Send
from portcall.core.wire import bootp, dhcp, udp
from portcall.core.wire.bootp import BootpMessage, Op
from portcall.core.wire.dhcp import Code, MessageType, Options
from portcall.core.wire.octets import Malformed

ASK_TIMES = 2
ASK_INTERVAL = 1.5
"""Seconds until it is asked again: one frame may be lost."""

LAST_WAIT = 3.0
"""Seconds to wait after the last question.

Servers see first whether an address is in use before they offer it (RFC 2131 §3.1 step 2). Those
that are about take up to three seconds for that.
"""

OTHERS_WAIT = 1.0
"""Seconds after the first offer in which another server may make one."""

ASK_AGAIN = 30.0
"""Seconds between two looks while serving; in between, servers are overheard."""

LONGEST = (ASK_TIMES - 1) * ASK_INTERVAL + LAST_WAIT
"""Seconds that a look takes which finds nobody."""

_MOST_SERVERS = 64


@dataclass(frozen=True, slots=True)
class Offer:
    """The offer of a DHCP server to this workstation; None for values that it did not tell.

    ``address`` is None for a server that was only overheard, ``server_mac`` for one that was only
    named by a device.
    """

    server_mac: Mac | None
    server: IPv4Address
    address: IPv4Address | None = None
    prefix: int | None = None
    lease_seconds: int | None = None

    @property
    def network(self) -> IPv4Network | None:
        """The subnet that the offered address is in; None where none, or no mask, was offered."""
        if self.address is None or self.prefix is None:
            return None
        return IPv4Interface((self.address, self.prefix)).network

    def __str__(self) -> str:
        return f"{self.server} at {self.server_mac}" if self.server_mac else str(self.server)


class Lookout(Conversation[Frame, Offer]):
    """Sends DHCPDISCOVER for the workstation's own MAC and takes no offer.

    With ``serving``, which are the workstation's own addresses, it also overhears what servers tell
    others, and which server a device says that it deals with: some answer only MACs that they know.
    A ``lasting`` one never ends, and asks again from time to time. Each server is reported once.
    """

    def __init__(
        self,
        own_mac: Mac,
        xid: int,
        lasting: bool = False,
        serving: Collection[IPv4Address] | None = None,
    ) -> None:
        self._own_mac = own_mac
        self._lasting = lasting
        self._serving = serving
        self._xid = xid
        self._asks_left = ASK_TIMES
        self._seen: set[IPv4Address] = set()

    def begin(self, now: float) -> Actions[Frame, Offer]:
        """Ask."""
        yield from self.woke(now)

    def woke(self, now: float) -> Actions[Frame, Offer]:
        """Ask again, or conclude."""
        if self._asks_left == 0 and not self._lasting:
            self.over = True
            self.wake_at = None
            return
        self._asks_left = max(self._asks_left - 1, 0)
        self.wake_at = now + (ASK_INTERVAL if self._asks_left else LAST_WAIT)
        if self._lasting:
            self.wake_at = now + ASK_AGAIN
        options = Options(((Code.MESSAGE_TYPE, bytes((MessageType.DISCOVER,))),))
        # The broadcast flag is set because the kernel would drop an offer to an address that this
        # computer does not have, and because a link that filters by MAC shows broadcasts.
        message = BootpMessage(
            Op.REQUEST,
            self._own_mac,
            self._xid,
            flags=bootp.encode_flags(broadcast=True),
            vendor=dhcp.encode(options),
        )
        datagram = udp.UdpDatagram(
            bootp.CLIENT_PORT, bootp.SERVER_PORT, bootp.padded(bootp.encode(message))
        )
        frame = udp.UdpFrame(self._own_mac, BROADCAST, UNSPECIFIED, LIMITED_BROADCAST, datagram)
        yield Send(Frame(udp.encode_frame(frame)))

    def heard(self, packet: Frame, now: float) -> Actions[Frame, Offer]:
        """An offer to us means a server; while serving, so does what is said between others."""
        try:
            heard = dhcp.parse_frame(packet.data)
        except Malformed:
            return
        if heard is None or heard.frame.source_mac == self._own_mac or heard.options is None:
            return
        # A message that a relay agent passed on comes from another server, which may be this one.
        relayed = heard.message.giaddr != UNSPECIFIED
        offer = self._offer(heard, heard.options)
        if offer is None and self._serving is not None and not relayed:
            offer = self._overheard(heard, heard.options)
        if offer is None or offer.server in self._seen or len(self._seen) >= _MOST_SERVERS:
            return
        self._seen.add(offer.server)
        if not self._lasting and self.wake_at is not None:
            self._asks_left = 0
            self.wake_at = min(self.wake_at, now + OTHERS_WAIT)
        yield Report(offer)

    def _offer(self, heard: dhcp.DhcpFrame, options: Options) -> Offer | None:
        """The offer in a message, if it is to this workstation."""
        frame, message, _ = heard
        to_us = message.xid == self._xid and message.mac == self._own_mac
        if not to_us or message.op is not Op.REPLY or options.message_type is not MessageType.OFFER:
            return None
        mask = options.subnet_mask
        return Offer(
            frame.source_mac,
            options.server_identifier or frame.source,
            message.yiaddr,
            None if mask is None else dhcp.prefix_length(mask),
            options.lease_seconds,
        )

    def _overheard(self, heard: dhcp.DhcpFrame, options: Options) -> Offer | None:
        """A server that answers somebody else, or that somebody else answers to."""
        frame, message, _ = heard
        named = options.server_identifier
        if message.op is Op.REPLY:
            from_server = frame.datagram.source_port == bootp.SERVER_PORT and options.message_type
            return Offer(frame.source_mac, named or frame.source) if from_server else None
        if named is None or named in (self._serving or ()):
            return None
        try:
            check_device_address(named)
        except AddressError:
            # Some devices write something else in this field; it need not be a server's address.
            return None
        return Offer(None, named)
