"""The request of a device to an address server, with the parts of its frame for the answer."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum
from ipaddress import IPv4Address

from portcall.core.address import NO_MAC, UNSPECIFIED, Mac
from portcall.core.circuit import circuit_words
from portcall.core.finding import Finding, Sentence
from portcall.core.printable import DeviceText, decoded
from portcall.core.talk.conversation import Frame
from portcall.core.wire import bootp, dhcp, udp
from portcall.core.wire.bootp import BootpMessage, Op
from portcall.core.wire.dhcp import Code, MessageType, Options
from portcall.core.wire.octets import Malformed


class AddressProtocol(StrEnum):
    """How a device asks for an address."""

    BOOTP = "BOOTP"
    DHCP = "DHCP"


@dataclass(frozen=True, slots=True)
class Request:
    """A BOOTP or DHCP request.

    Old BOOTP clients send no cookie; their requests have no options. ``kind`` is None for plain
    BOOTP. ``relay`` is the relay agent that passed the request on, by its address on the device's
    wire.
    """

    frame: udp.UdpFrame
    message: BootpMessage
    options: Options
    kind: MessageType | None
    relay: IPv4Address | None

    @property
    def mac(self) -> Mac:
        """The device that asks, also when a relay agent passed the request on."""
        return self.message.mac

    @property
    def protocol(self) -> AddressProtocol:
        """By which it asks."""
        return AddressProtocol.BOOTP if self.kind is None else AddressProtocol.DHCP

    @property
    def renews_from_afar(self) -> bool:
        """Whether a device that has an address asks from it, by way of a router (RFC 2131 §4.4.5).

        Then the frame comes from the router, and goes back to it.
        """
        from_there = self.frame.source == self.message.ciaddr != UNSPECIFIED
        return self.relay is None and from_there and self.frame.source_mac != self.mac

    @property
    def wants_address(self) -> bool:
        """Whether it asks for an address, rather than giving one back or asking about others."""
        return self.kind in (None, MessageType.DISCOVER, MessageType.REQUEST)

    @property
    def wanted(self) -> IPv4Address | None:
        """The address that a DHCPREQUEST names (RFC 2131 §4.3.2, table 4)."""
        named = self.options.requested_address or self.message.ciaddr
        return None if named == UNSPECIFIED else named

    @property
    def introduction(self) -> tuple[Finding, ...]:
        """How the device introduced itself."""
        facts = []
        if self.options.host_name:
            facts.append(CALLS_ITSELF(host_name=decoded(self.options.host_name)))
        vendor_class = self.options.get(Code.VENDOR_CLASS)
        if vendor_class:
            facts.append(OF_CLASS(vendor_class=decoded(vendor_class)))
        if self.relay:
            facts.append(BEHIND_RELAY(relay=self.relay))
        circuit = self.options.circuit
        if circuit:
            facts.append(ON_CIRCUIT(circuit=circuit_words(circuit)))
        if self.options.oddities:
            facts.append(NOT_READ(oddities=self.options.oddities))
        return tuple(facts)

    @property
    def says(self) -> DeviceText:
        """The name and the class that the device itself tells."""
        vendor_class = self.options.get(Code.VENDOR_CLASS)
        return decoded(b" ".join(filter(None, (self.options.host_name, vendor_class))))


CALLS_ITSELF = Sentence("", "calls itself {host_name}")
OF_CLASS = Sentence("", "class {vendor_class}")
BEHIND_RELAY = Sentence("", "behind the relay {relay}")
ON_CIRCUIT = Sentence("", "on circuit {circuit}")
NOT_READ = Sentence("", "not read of it: {oddities}")


def sender(packet: Frame) -> Mac | None:
    """The sender of an unreadable request, by its frame; None when it is to nobody here."""
    data = packet.data
    is_request = data[_PORT] == bootp.SERVER_PORT.to_bytes(2, "big")
    return Mac(data[6:12]) if is_request else None


_PORT = slice(36, 38)
"""Where UDP has its destination port, in a frame without IP options."""


def read(packet: Frame) -> Request | None:
    """The request in a frame, or None when the frame has none.

    Raises Malformed for a frame that claims to be a request and cannot be read.
    """
    heard = dhcp.parse_frame(packet.data)
    if heard is None or heard.frame.datagram.destination_port != bootp.SERVER_PORT:
        return None
    frame, message, options = heard
    if message.op is not Op.REQUEST:
        return None
    if message.mac.is_group or message.mac == NO_MAC:
        raise Malformed(f"BOOTP: {message.mac} is no device's own MAC", 28)
    options = options or Options()
    relay = None if message.giaddr == UNSPECIFIED else message.giaddr
    return Request(frame, message, options, options.message_type, relay)
