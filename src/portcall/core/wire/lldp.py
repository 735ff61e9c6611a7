"""LLDP (IEEE 802.1AB-2016 §8): what a switch or device announces of itself to its neighbour."""

from __future__ import annotations

from enum import IntEnum
from ipaddress import IPv4Address
from typing import NamedTuple

from portcall.core.address import Mac
from portcall.core.wire import ethernet
from portcall.core.wire.ethernet import EtherType
from portcall.core.wire.octets import Malformed, Reader

GROUP = Mac(b"\x01\x80\xc2\x00\x00\x0e")
"""The nearest bridge (§7.1): switches do not pass it on."""

_MOST_TLVS = 128
_FAMILY_IPV4 = 1


class Tlv(IntEnum):
    """Table 8-1, TLV types."""

    END = 0
    CHASSIS_ID = 1
    PORT_ID = 2
    TIME_TO_LIVE = 3
    PORT_DESCRIPTION = 4
    SYSTEM_NAME = 5
    SYSTEM_DESCRIPTION = 6
    MANAGEMENT_ADDRESS = 8


class Subtype(IntEnum):
    """Tables 8-2 and 8-3, where both say the same of a chassis and a port."""

    CHASSIS_MAC = 4
    PORT_MAC = 3
    NETWORK_ADDRESS = 5
    PORT_NAME = 5
    LOCAL = 7


CHASSIS_TEXTS = (1, 2, 3, 6, 7)
"""Table 8-2: chassis component, interface alias, port component, interface name, local."""

PORT_TEXTS = (1, 2, 5, 7)
"""Table 8-3: interface alias, port component, interface name, local."""


class Announcement(NamedTuple):
    """An LLDP data unit; identifiers as they came, after their subtype."""

    chassis_subtype: int
    chassis: bytes
    port_subtype: int
    port: bytes
    seconds: int
    port_description: bytes = b""
    name: bytes = b""
    description: bytes = b""
    management: tuple[IPv4Address, ...] = ()


def parse(data: bytes) -> Announcement:
    """Read a data unit. Raises Malformed unless it starts with its three mandatory TLVs (§8.2).

    What comes behind a TLV that runs past the end is not read.
    """
    reader = Reader(data, "LLDP")
    found: dict[int, bytes] = {}
    management: list[IPv4Address] = []
    for count in range(_MOST_TLVS):
        try:
            head = reader.u16()
            kind, value = head >> 9, reader.take(head & 0x1FF)
        except Malformed:
            if count < 3:
                raise
            break
        if kind == Tlv.END:
            break
        if count < 3 and kind != count + 1:
            raise reader.wrong(f"TLV {count + 1} is of type {kind}")
        found.setdefault(kind, value)
        if kind == Tlv.MANAGEMENT_ADDRESS:
            management.extend(_management(value))
        if not reader.remaining:
            break
    try:
        chassis, port = found[Tlv.CHASSIS_ID], found[Tlv.PORT_ID]
        seconds = int.from_bytes(found[Tlv.TIME_TO_LIVE][:2], "big")
    except KeyError:
        raise reader.wrong("a mandatory TLV is missing") from None
    if not chassis or not port:
        raise reader.wrong("an empty identifier")
    return Announcement(
        chassis[0],
        chassis[1:],
        port[0],
        port[1:],
        seconds,
        found.get(Tlv.PORT_DESCRIPTION, b""),
        found.get(Tlv.SYSTEM_NAME, b""),
        found.get(Tlv.SYSTEM_DESCRIPTION, b""),
        tuple(dict.fromkeys(management)),
    )


def _management(value: bytes) -> tuple[IPv4Address, ...]:
    """§8.5.9: length and address family first."""
    return network_address(value[1 : 1 + value[0]]) if value else ()


def network_address(value: bytes) -> tuple[IPv4Address, ...]:
    """The IPv4 address in an identifier that starts with its family, if it is one."""
    if len(value) == 5 and value[0] == _FAMILY_IPV4:
        return (IPv4Address(value[1:]),)
    return ()


def encode(said: Announcement) -> bytes:
    """The data unit's bytes, ended as §8.5.1 wants it."""
    parts = [
        (Tlv.CHASSIS_ID, bytes((said.chassis_subtype,)) + said.chassis),
        (Tlv.PORT_ID, bytes((said.port_subtype,)) + said.port),
        (Tlv.TIME_TO_LIVE, said.seconds.to_bytes(2, "big")),
    ]
    optional = [
        (Tlv.PORT_DESCRIPTION, said.port_description),
        (Tlv.SYSTEM_NAME, said.name),
        (Tlv.SYSTEM_DESCRIPTION, said.description),
        *(
            # Interface numbering subtype 1, "unknown", and no object identifier.
            (
                Tlv.MANAGEMENT_ADDRESS,
                bytes((5, _FAMILY_IPV4)) + address.packed + bytes((1, *bytes(5))),
            )
            for address in said.management
        ),
    ]
    parts += [part for part in optional if part[1]]
    body = b"".join((kind << 9 | len(value)).to_bytes(2, "big") + value for kind, value in parts)
    return body + bytes(2)


def parse_frame(data: bytes) -> tuple[Mac, Announcement]:
    """The sender and the announcement of a frame. Raises Malformed."""
    outer = ethernet.parse_untagged(data)
    if outer.ethertype != EtherType.LLDP:
        raise Malformed(f"EtherType is {outer.ethertype:#06x}, not LLDP's", 12)
    return outer.source, parse(outer.payload)


def encode_frame(source: Mac, said: Announcement) -> bytes:
    """A whole frame to the neighbour."""
    payload = encode(said).ljust(ethernet.SHORTEST_PAYLOAD, b"\0")
    return ethernet.encode(ethernet.EthernetFrame(GROUP, source, EtherType.LLDP, payload))
