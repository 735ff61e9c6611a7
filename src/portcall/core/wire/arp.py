"""ARP for IPv4 over Ethernet (RFC 826; probes and announcements as in RFC 5227 §1.1)."""

from __future__ import annotations

import struct
from enum import IntEnum
from ipaddress import IPv4Address
from typing import NamedTuple

from portcall.core.address import BROADCAST, NO_MAC, UNSPECIFIED, Mac
from portcall.core.wire import ethernet
from portcall.core.wire.ethernet import EtherType
from portcall.core.wire.octets import Malformed

_HARDWARE_ETHERNET = 1


class Operation(IntEnum):
    """ar$op of RFC 826."""

    REQUEST = 1
    REPLY = 2


class Arp(NamedTuple):
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


_PACKET = struct.Struct("!HHBBH6s4s6s4s")
_HEAD = (_HARDWARE_ETHERNET, EtherType.IPV4, 6, 4)
_TYPE = slice(12, 14)
_ETHERTYPE = EtherType.ARP.octets
_OPERATIONS = {operation.value: operation for operation in Operation}


def parse(data: bytes) -> Arp:
    """Read an ARP packet, ignoring padding. Raises Malformed unless it is IPv4 over Ethernet.

    Taken apart in one step: a sweep's answers come by the ten thousand.
    """
    if len(data) < _PACKET.size:
        raise Malformed(f"ARP needs {_PACKET.size} octets, here are {len(data)}", len(data))
    *head, code, sender_mac, sender, target_mac, target = _PACKET.unpack_from(data)
    if tuple(head) != _HEAD:
        raise Malformed("ARP is not for IPv4 over Ethernet", 0)
    operation = _OPERATIONS.get(code)
    if operation is None:
        raise Malformed(f"ARP operation {code} is neither request nor reply", 6)
    return Arp(
        operation, Mac(sender_mac), IPv4Address(sender), Mac(target_mac), IPv4Address(target)
    )


def parse_frame(data: bytes) -> Arp:
    """Read the ARP packet in an Ethernet frame. Raises Malformed when there is none."""
    if data[_TYPE] != _ETHERTYPE:
        raise Malformed("EtherType is not ARP's", 12)
    return parse(data[_TYPE.stop :])


_REPLY = slice(12, 22)
_REPLY_OCTETS = b"\x08\x06\x00\x01\x08\x00\x06\x04\x00\x02"
"""EtherType, hardware and protocol, their lengths, and the operation: all that makes a reply."""


def parse_reply_sender(data: bytes) -> bytes | None:
    """The sender's MAC and address, ten octets, of a frame with an ARP reply; None for other
    frames.

    It tells what ``parse_frame`` tells, in a tenth of the time: a sweep hears ten thousands.
    """
    if data[_REPLY] != _REPLY_OCTETS or len(data) < _TYPE.stop + _PACKET.size:
        return None
    return data[22:32]


def encode(packet: Arp) -> bytes:
    """The packet's 28 octets."""
    return b"".join(
        (
            _HARDWARE_ETHERNET.to_bytes(2, "big"),
            EtherType.IPV4.octets,
            b"\x06\x04",
            packet.operation.to_bytes(2, "big"),
            packet.sender_mac.octets,
            packet.sender_address.packed,
            packet.target_mac.octets,
            packet.target_address.packed,
        )
    )


def encode_request(
    sender_mac: Mac, sender_address: IPv4Address, target: IPv4Address, to: Mac = BROADCAST
) -> bytes:
    """A whole frame that asks who has ``target``; sender 0.0.0.0 makes it a probe.

    It goes to everybody, or ``to`` one device alone.
    """
    packet = Arp(Operation.REQUEST, sender_mac, sender_address, NO_MAC, target)
    return ethernet.encode(ethernet.EthernetFrame(to, sender_mac, EtherType.ARP, encode(packet)))
