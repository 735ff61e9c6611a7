"""BOOTP messages (RFC 951 §3, RFC 1542), which DHCP messages are too (RFC 2131 §2).

``vendor`` is the area after the fixed fields as it came; ``wire.dhcp`` reads options in it.
"""

from __future__ import annotations

import struct
from enum import IntEnum
from ipaddress import IPv4Address
from typing import NamedTuple

from portcall.core.address import UNSPECIFIED, Mac
from portcall.core.wire.octets import Malformed

SERVER_PORT = 67
CLIENT_PORT = 68
SHORTEST = 300
"""RFC 1542 §2.1: a message is at least 300 octets long; old devices drop shorter replies."""

_FIXED = struct.Struct("!BBBBIHH4s4s4s4s6s10s64s128s")
"""RFC 951 §3: everything before the vendor area."""
_NONE = bytes(4)
_HARDWARE_ETHERNET = 1
_BROADCAST_FLAG = 0x8000


class Op(IntEnum):
    """RFC 951 §3, ``op``."""

    REQUEST = 1
    REPLY = 2


class BootpMessage(NamedTuple):
    """The fields of RFC 951 §3 in their order; ``flags`` is RFC 1542 §2.2's."""

    op: Op
    mac: Mac
    xid: int
    hops: int = 0
    secs: int = 0
    flags: int = 0
    ciaddr: IPv4Address = UNSPECIFIED
    yiaddr: IPv4Address = UNSPECIFIED
    siaddr: IPv4Address = UNSPECIFIED
    giaddr: IPv4Address = UNSPECIFIED
    sname: bytes = bytes(64)
    file: bytes = bytes(128)
    vendor: bytes = b""
    hardware_tail: bytes = bytes(10)
    """What follows the six octets of the MAC in ``chaddr``; zeros from any honest client."""

    @property
    def wants_broadcast(self) -> bool:
        """RFC 1542 §4.1.2: the broadcast flag tells us how the client can hear us."""
        return bool(self.flags & _BROADCAST_FLAG)


def encode_flags(broadcast: bool) -> int:
    """The flags field."""
    return _BROADCAST_FLAG if broadcast else 0


def parse(data: bytes) -> BootpMessage:
    """Read a message of any length from 236 octets; the vendor area may be missing.

    Raises Malformed when it is shorter, neither request nor reply, or not about Ethernet.
    """
    if len(data) < _FIXED.size:
        raise Malformed(f"BOOTP: {len(data)} octets; the fixed fields have {_FIXED.size}", 0)
    fields = _FIXED.unpack_from(data)
    op, hardware, length, hops, xid, secs, flag_bits = fields[:7]
    if op not in (1, 2):
        raise Malformed(f"BOOTP: op {op} is neither request nor reply", 0)
    if hardware != _HARDWARE_ETHERNET or length != 6:
        raise Malformed(f"BOOTP: hardware type {hardware}, length {length}: not Ethernet", 1)
    ciaddr, yiaddr, siaddr, giaddr = map(_address, fields[7:11])
    mac, hardware_tail, sname, file = fields[11:]
    return BootpMessage(
        Op.REQUEST if op == 1 else Op.REPLY,
        Mac(mac),
        xid,
        hops,
        secs,
        flag_bits,
        ciaddr,
        yiaddr,
        siaddr,
        giaddr,
        sname,
        file,
        data[_FIXED.size :],
        hardware_tail,
    )


def _address(octets: bytes) -> IPv4Address:
    # Most addresses are not set, and making an address object takes longer than reading all the
    # rest.
    return UNSPECIFIED if octets == _NONE else IPv4Address(octets)


def encode(message: BootpMessage) -> bytes:
    """The message's bytes, exactly; ``padded`` makes them long enough for old devices."""
    fixed = _FIXED.pack(
        message.op,
        _HARDWARE_ETHERNET,
        6,
        message.hops,
        message.xid,
        message.secs,
        message.flags,
        message.ciaddr.packed,
        message.yiaddr.packed,
        message.siaddr.packed,
        message.giaddr.packed,
        message.mac,
        message.hardware_tail,
        message.sname,
        message.file,
    )
    return fixed + message.vendor


def padded(data: bytes) -> bytes:
    """Zeros up to the shortest length allowed (RFC 1542 §2.1)."""
    return data.ljust(SHORTEST, b"\0")
