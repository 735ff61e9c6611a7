"""ARP for IPv4 over Ethernet (RFC 826; probes and announcements as in RFC 5227 §1.1)."""

from __future__ import annotations

from dataclasses import dataclass
from enum import IntEnum
from ipaddress import IPv4Address

from portcall.core.address import BROADCAST, NO_MAC, UNSPECIFIED, Mac
from portcall.core.wire import ethernet
from portcall.core.wire.octets import Reader

_HARDWARE_ETHERNET = 1


class Operation(IntEnum):
    """ar$op of RFC 826."""

    REQUEST = 1
    REPLY = 2


@dataclass(frozen=True, slots=True)
class Arp:
    """An ARP packet; the sender says that it has ``sender_address`` at ``sender_mac``."""

    operation: Operation
    sender_mac: Mac
    sender_address: IPv4Address
    target_mac: Mac
    target_address: IPv4Address

    @property
    def is_probe(self) -> bool:
        """RFC 5227 §1.1: sender address zero; it asks without claiming anything."""
        return self.operation is Operation.REQUEST and self.sender_address == UNSPECIFIED


def parse(data: bytes) -> Arp:
    """Read an ARP packet, ignoring padding. Raises Malformed unless it is IPv4 over Ethernet."""
    reader = Reader(data, "ARP")
    if reader.u16() != _HARDWARE_ETHERNET:
        raise reader.wrong("hardware type is not Ethernet")
    if reader.u16() != ethernet.ETHERTYPE_IPV4:
        raise reader.wrong("protocol type is not IPv4")
    if reader.take(2) != b"\x06\x04":
        raise reader.wrong("address lengths are not 6 and 4")
    code = reader.u16()
    if code not in (1, 2):
        raise reader.wrong(f"operation {code} is neither request nor reply")
    return Arp(Operation(code), reader.mac(), reader.address(), reader.mac(), reader.address())


def encode(packet: Arp) -> bytes:
    """The packet's 28 octets."""
    return b"".join(
        (
            _HARDWARE_ETHERNET.to_bytes(2, "big"),
            ethernet.ETHERTYPE_IPV4.to_bytes(2, "big"),
            b"\x06\x04",
            packet.operation.to_bytes(2, "big"),
            packet.sender_mac.octets,
            packet.sender_address.packed,
            packet.target_mac.octets,
            packet.target_address.packed,
        )
    )


def request(sender_mac: Mac, sender_address: IPv4Address, target: IPv4Address) -> bytes:
    """A whole broadcast frame that asks who has ``target``; sender 0.0.0.0 makes it a probe."""
    packet = Arp(Operation.REQUEST, sender_mac, sender_address, NO_MAC, target)
    return ethernet.encode(
        ethernet.EthernetFrame(BROADCAST, sender_mac, ethernet.ETHERTYPE_ARP, encode(packet))
    )
