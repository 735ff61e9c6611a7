"""An address server on a made-up wire: what devices say to it, and what it says."""

from ipaddress import IPv4Address, IPv4Interface

from drive import Wire

from portcall.core.address import BROADCAST, UNSPECIFIED, Mac
from portcall.core.assign.reply import Replies
from portcall.core.assign.server import AddressServer
from portcall.core.finding import Name
from portcall.core.plan.rows import Plan, PlannedDevice
from portcall.core.talk.conversation import Conversation, Frame, Send
from portcall.core.wire import arp, bootp, dhcp, ethernet, udp
from portcall.core.wire.dhcp import Code, Options

OWN = Mac(b"\x02\x1a\x40\x7c\x00\x06")
FAN = Mac(b"\x02\x77\xb1\x4c\x09\x21")
BELT = Mac(b"\x02\x77\xb1\x61\x13\xa4")
RELAY_MAC = Mac(b"\x02\x4e\x07\x00\x00\x01")
STRANGER = Mac(b"\x02\x60\xd1\x00\x5e\x01")
ME = IPv4Interface("10.61.20.200/24")
EVERYBODY = IPv4Address("255.255.255.255")
PLAN = Plan(
    (
        PlannedDevice(Name("fan-drive-1"), IPv4Interface("10.61.20.21/24"), FAN),
        PlannedDevice(
            Name("belt-drive"), IPv4Interface("10.61.20.23/24"), BELT, IPv4Address("10.61.20.1")
        ),
    )
)


class Kernel(Conversation):
    """Answers ARP for an address, as a device's own network stack does once it has one."""

    def __init__(self, mac):
        self.mac = mac
        self.address = None

    def heard(self, packet, now):
        frame = ethernet.parse(packet.data)
        if frame.ethertype != 0x0806 or self.address is None:
            return
        said = arp.parse(frame.payload)
        if said.operation is arp.Operation.REQUEST and said.target_address == self.address:
            reply = arp.Arp(
                arp.Operation.REPLY, self.mac, self.address, said.sender_mac, said.sender_address
            )
            outer = ethernet.EthernetFrame(said.sender_mac, self.mac, 0x0806, arp.encode(reply))
            yield Send(Frame(ethernet.encode(outer)))


def serving(plan=PLAN, lose=lambda packet: False, **others):
    wire = Wire(lose)
    return wire, wire.join(AddressServer((ME,), plan, Replies(OWN), **others))


def kinds(party):
    return [event.kind.value for event in party.facts]


def ask(mac, *entries, cookie=True, giaddr=UNSPECIFIED, ciaddr=UNSPECIFIED, flags=0, xid=5):
    vendor = dhcp.encode(Options(entries)) if cookie else b""
    message = bootp.BootpMessage(
        bootp.Op.REQUEST, mac, xid, flags=flags, ciaddr=ciaddr, giaddr=giaddr, vendor=vendor
    )
    datagram = udp.UdpDatagram(68, 67, bootp.encode(message))
    frame = udp.UdpFrame(mac, BROADCAST, ciaddr, EVERYBODY, datagram)
    if giaddr != UNSPECIFIED:
        # A relay agent passes it on, to the server's address (RFC 1542 §4.1.1).
        frame = udp.UdpFrame(
            RELAY_MAC, OWN, giaddr, ME.ip, udp.UdpDatagram(67, 67, datagram.payload)
        )
    return Frame(udp.encode_frame(frame))


def kind(message_type):
    return (Code.MESSAGE_TYPE, bytes((message_type,)))


def answers(party):
    """The server's UDP frames, with message and options."""
    found = []
    for packet in party.packets:
        if ethernet.parse(packet.data).ethertype == 0x0800 and packet.data[23] == 17:
            frame = udp.parse_frame(packet.data)
            message = bootp.parse(frame.datagram.payload)
            found.append((frame, message, dhcp.parse(message)))
    return found
