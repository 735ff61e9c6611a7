"""The Ethernet link object of a CIP device: a plug, its MAC and whether something is in it.

The CIP Networks Library, volume 2, chapter 5, §5-5.3: attributes 2 (interface flags), 3 (physical
address) and 10 (interface label). The TCP/IP interface object says in its attribute 4 (§5-4.3.2.4)
which of them is its own.
"""

from __future__ import annotations

from enum import IntEnum

from portcall.core.address import Mac
from portcall.core.wire.octets import Reader

ETHERNET_LINK = 0xF6
PHYSICAL_LINK = 4
"""The attribute of the TCP/IP interface object."""

LINK_IS_UP = 1 << 0
"""§5-5.3.2.2, bit 0 of the flags."""


class Attribute(IntEnum):
    """Attributes of the instance."""

    FLAGS = 2
    ADDRESS = 3
    LABEL = 10


def parse_link_path(data: bytes) -> int | None:
    """The instance that the path in attribute 4 names, or None for another object's path.

    Raises Malformed.
    """
    reader = Reader(data, "CIP physical link")
    path = reader.take(2 * reader.u16_little())
    return path[3] if len(path) == 4 and path[:3] == bytes((0x20, ETHERNET_LINK, 0x24)) else None


def encode_link_path(instance: int) -> bytes:
    """A path to an instance, as attribute 4 has it."""
    return bytes((2, 0, 0x20, ETHERNET_LINK, 0x24, instance))


def parse_mac(data: bytes) -> Mac:
    """Attribute 3. Raises Malformed."""
    return Mac(Reader(data, "CIP physical address").take(6))


def parse_label(data: bytes) -> bytes:
    """Attribute 10, a SHORT_STRING. Raises Malformed."""
    reader = Reader(data, "CIP interface label")
    return reader.take(reader.u8())
