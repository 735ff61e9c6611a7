"""Which DHCP servers are on this wire, and what they would give this computer.

This is asked before serving: two DHCP servers on one wire give conflicting addresses, so this one
must give way. It is also asked before taking an address from a device that hands them out.
"""

from __future__ import annotations

from dataclasses import dataclass
from ipaddress import IPv4Address

from portcall.core.address import BROADCAST, LIMITED_BROADCAST, UNSPECIFIED, Mac
from portcall.core.talk.conversation import Actions, Conversation, Frame, Report, Send
from portcall.core.wire import bootp, dhcp, udp
from portcall.core.wire.bootp import BootpMessage, Op
from portcall.core.wire.dhcp import Code, MessageType, Options
from portcall.core.wire.octets import Malformed

ASK_TIMES = 2
ASK_AGAIN = 30.0
"""Seconds between two looks while serving; in between, servers are overheard."""

_MOST_SERVERS = 64
ASK_INTERVAL = 0.75
"""Seconds until it is asked again.

A server that probes an address before it offers it takes up to a second (RFC 2131 §3.1 step 2).
"""


@dataclass(frozen=True, slots=True)
class Offer:
    """What a DHCP server offered this workstation; None where it did not say."""

    server_mac: Mac
    server: IPv4Address
    address: IPv4Address
    prefix: int | None = None
    lease_seconds: int | None = None


class Lookout(Conversation[Frame, Offer]):
    """Sends DHCPDISCOVER for the workstation's own MAC and takes no offer.

    A ``lasting`` one never ends: it asks again from time to time, and overhears what servers other
    than the workstation itself tell others. Each server is reported once.
    """

    def __init__(self, own_mac: Mac, xid: int, lasting: bool = False) -> None:
        self._own_mac = own_mac
        self._lasting = lasting
        self._xid = xid
        self._asks_left = ASK_TIMES
        self._seen: set[Mac] = set()

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
        self.wake_at = now + (ASK_AGAIN if self._lasting else ASK_INTERVAL)
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
        """An offer to us means a server; while serving, so does what others are told."""
        try:
            heard = dhcp.parse_frame(packet.data)
        except Malformed:
            return
        if heard is None:
            return
        frame, message, options = heard
        if frame.datagram.source_port != bootp.SERVER_PORT or message.op is not Op.REPLY:
            return
        if frame.source_mac == self._own_mac or options is None:
            return
        to_us = message.xid == self._xid and message.mac == self._own_mac
        offered = to_us and options.message_type is MessageType.OFFER
        # A message that a relay agent passed on comes from another server, which may be this one.
        overheard = self._lasting and message.giaddr == UNSPECIFIED and options.message_type
        if not (offered or overheard):
            return
        if frame.source_mac not in self._seen and len(self._seen) < _MOST_SERVERS:
            self._seen.add(frame.source_mac)
            server = options.server_identifier or frame.source
            mask = options.subnet_mask
            prefix = None if mask is None else dhcp.prefix_length(mask)
            seconds = options.lease_seconds
            yield Report(Offer(frame.source_mac, server, message.yiaddr, prefix, seconds))
