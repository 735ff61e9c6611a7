"""Which DHCP servers are on this wire, and what would they give this computer?

Asked before serving, since two servers make strange addresses and this one is the guest; and before
taking an address from a device that hands them out.
"""

from __future__ import annotations

from dataclasses import dataclass
from ipaddress import IPv4Address

from portcall.core.address import BROADCAST, UNSPECIFIED, Mac
from portcall.core.conversation import Actions, Conversation, Frame, Report, Send
from portcall.core.wire import bootp, dhcp, udp
from portcall.core.wire.bootp import BootpMessage, Op
from portcall.core.wire.dhcp import Code, MessageType, Options
from portcall.core.wire.octets import Malformed

ASK_TIMES = 2
ASK_INTERVAL = 0.75
"""Seconds. A server that probes before it offers takes up to a second (RFC 2131 §3.1 step 2)."""

_LIMITED_BROADCAST = IPv4Address("255.255.255.255")


@dataclass(frozen=True, slots=True)
class Offer:
    """What a DHCP server offered this workstation; None where it did not say."""

    server_mac: Mac
    server: IPv4Address
    address: IPv4Address
    prefix: int | None = None
    lease_seconds: int | None = None


class Lookout(Conversation[Frame, Offer]):
    """Sends DHCPDISCOVER for the workstation's own MAC and takes no offer."""

    def __init__(self, own_mac: Mac, xid: int) -> None:
        self._own_mac = own_mac
        self._xid = xid
        self._asks_left = ASK_TIMES
        self._seen: set[Mac] = set()

    def begin(self, now: float) -> Actions[Frame, Offer]:
        """Ask."""
        yield from self.woke(now)

    def woke(self, now: float) -> Actions[Frame, Offer]:
        """Ask again, or conclude."""
        if self._asks_left == 0:
            self.over = True
            self.wake_at = None
            return
        self._asks_left -= 1
        self.wake_at = now + ASK_INTERVAL
        options = Options(((Code.MESSAGE_TYPE, bytes((MessageType.DISCOVER,))),))
        # The broadcast flag: without an address in its subnet the kernel would drop the offer,
        # but also a link that filters by MAC shows broadcasts.
        message = BootpMessage(
            Op.REQUEST,
            self._own_mac,
            self._xid,
            flags=bootp.flags(broadcast=True),
            vendor=dhcp.encode(options),
        )
        datagram = udp.UdpDatagram(
            bootp.CLIENT_PORT, bootp.SERVER_PORT, bootp.padded(bootp.encode(message))
        )
        frame = udp.UdpFrame(self._own_mac, BROADCAST, UNSPECIFIED, _LIMITED_BROADCAST, datagram)
        yield Send(Frame(udp.encode_frame(frame)))

    def heard(self, packet: Frame, now: float) -> Actions[Frame, Offer]:
        """An offer to us means a server."""
        try:
            frame = udp.parse_frame(packet.data)
            if frame.datagram.destination_port != bootp.CLIENT_PORT:
                return
            message = bootp.parse(frame.datagram.payload)
            options = dhcp.parse(message)
        except Malformed:
            return
        ours = message.xid == self._xid and message.mac == self._own_mac
        if not ours or options is None or options.message_type is not MessageType.OFFER:
            return
        if frame.source_mac not in self._seen and len(self._seen) < 64:
            self._seen.add(frame.source_mac)
            server = options.server_identifier or frame.source
            mask = options.subnet_mask
            prefix = None if mask is None else dhcp.prefix_length(mask)
            seconds = options.lease_seconds
            yield Report(Offer(frame.source_mac, server, message.yiaddr, prefix, seconds))
