"""BOOTP messages (RFC 951 §3, RFC 1542), which DHCP messages are too (RFC 2131 §2).

``vendor`` is the area after the fixed fields as it came; ``wire.dhcp`` reads options in it.
"""

from __future__ import annotations

from dataclasses import dataclass
from enum import IntEnum
from ipaddress import IPv4Address

from portcall.core.address import UNSPECIFIED, Mac
from portcall.core.wire.octets import Reader

SERVER_PORT = 67
CLIENT_PORT = 68
SHORTEST = 300
"""RFC 1542 §2.1: a message is at least 300 octets long; old devices drop shorter replies."""

_HARDWARE_ETHERNET = 1
_BROADCAST_FLAG = 0x8000


class Op(IntEnum):
    """RFC 951 §3, ``op``."""

    REQUEST = 1
    REPLY = 2


@dataclass(frozen=True, slots=True)
class BootpMessage:
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


def flags(broadcast: bool) -> int:
    """The flags field."""
    return _BROADCAST_FLAG if broadcast else 0


def parse(data: bytes) -> BootpMessage:
    """Read a message of any length from 236 octets; the vendor area may be missing.

    Raises Malformed when it is shorter, neither request nor reply, or not about Ethernet.
    """
    reader = Reader(data, "BOOTP")
    op = reader.u8()
    if op not in (1, 2):
        raise reader.wrong(f"op {op} is neither request nor reply")
    hardware, length = reader.u8(), reader.u8()
    if hardware != _HARDWARE_ETHERNET or length != 6:
        raise reader.wrong(f"hardware type {hardware}, address length {length}: not Ethernet")
    hops, xid, secs, flag_bits = reader.u8(), reader.u32(), reader.u16(), reader.u16()
    ciaddr, yiaddr = reader.address(), reader.address()
    siaddr, giaddr = reader.address(), reader.address()
    mac, hardware_tail = reader.mac(), reader.take(10)
    return BootpMessage(
        Op(op),
        mac,
        xid,
        hops,
        secs,
        flag_bits,
        ciaddr,
        yiaddr,
        siaddr,
        giaddr,
        reader.take(64),
        reader.take(128),
        reader.rest(),
        hardware_tail,
    )


def encode(message: BootpMessage) -> bytes:
    """The message's bytes, exactly; ``padded`` makes them long enough for old devices."""
    return b"".join(
        (
            bytes((message.op, _HARDWARE_ETHERNET, 6, message.hops)),
            message.xid.to_bytes(4, "big"),
            message.secs.to_bytes(2, "big"),
            message.flags.to_bytes(2, "big"),
            message.ciaddr.packed,
            message.yiaddr.packed,
            message.siaddr.packed,
            message.giaddr.packed,
            message.mac.octets,
            message.hardware_tail,
            message.sname,
            message.file,
            message.vendor,
        )
    )


def padded(data: bytes) -> bytes:
    """Zeros up to the shortest length allowed (RFC 1542 §2.1)."""
    return data.ljust(SHORTEST, b"\0")
