"""The TCP/IP interface object of a CIP device: how its address is set, and to what.

The CIP Networks Library, volume 2, chapter 5, §5-4.3: attributes 1 (status), 2 (configuration
capability), 3 (configuration control), 5 (interface configuration), 6 (host name).
"""

from __future__ import annotations

from enum import IntEnum
from ipaddress import IPv4Address
from typing import NamedTuple

from portcall.core.wire.octets import Reader

TCP_IP_INTERFACE = 0xF5
"""The object's class; a device has one instance for each port that has addresses."""

LONGEST_HOST_NAME = 64


class Attribute(IntEnum):
    """Attributes of the instance."""

    STATUS = 1
    CAPABILITY = 2
    CONTROL = 3
    CONFIGURATION = 5
    HOST_NAME = 6


LAST_INSTANCE = 2
"""The class attribute that says the highest number of an instance (volume 1 §4-4.1.1)."""


class Control(IntEnum):
    """§5-4.3.2.3, bits 0 to 3 of the configuration control: where the address comes from."""

    STORED = 0
    BOOTP = 1
    DHCP = 2


class ConfigurationCapability(IntEnum):
    """§5-4.3.2.2, bits of the configuration capability."""

    BOOTP = 1 << 0
    DHCP = 1 << 2
    SETTABLE = 1 << 4
    SET_BY_SWITCHES = 1 << 5
    NEEDS_RESTART = 1 << 6
    """What is set is in force after the next start only."""


STATUS_BY_SWITCHES = 2
"""§5-4.3.2.1, bits 0 to 3 of the status: the address is the one that switches on the device say."""


class InterfaceConfiguration(NamedTuple):
    """Attribute 5: what the device holds to be in force."""

    address: IPv4Address
    mask: IPv4Address
    gateway: IPv4Address
    name_server: IPv4Address
    second_name_server: IPv4Address
    domain: bytes = b""


def encode_configuration(configuration: InterfaceConfiguration) -> bytes:
    """The attribute's bytes; addresses are 32-bit numbers, least significant octet first."""
    addresses = (
        configuration.address,
        configuration.mask,
        configuration.gateway,
        configuration.name_server,
        configuration.second_name_server,
    )
    numbers = b"".join(int(address).to_bytes(4, "little") for address in addresses)
    return numbers + encode_text(configuration.domain)


def parse_configuration(data: bytes) -> InterfaceConfiguration:
    """Read the attribute; a missing domain name is none. Raises Malformed when it is short."""
    reader = Reader(data, "CIP interface configuration")
    address, mask, gateway, first, second = (IPv4Address(reader.u32_little()) for _ in range(5))
    domain = reader.take(reader.u16_little()) if reader.remaining >= 2 else b""
    return InterfaceConfiguration(address, mask, gateway, first, second, domain)


def encode_text(text: bytes) -> bytes:
    """A STRING as these attributes have it: its length, itself, and a zero to an even number."""
    return len(text).to_bytes(2, "little") + text + bytes(len(text) % 2)


def parse_text(data: bytes) -> bytes:
    """Read such a STRING. Raises Malformed when it is short."""
    reader = Reader(data, "CIP host name")
    return reader.take(reader.u16_little())


def encode_word(number: int) -> bytes:
    """A DWORD: attributes 1, 2 and 3."""
    return number.to_bytes(4, "little")


def parse_word(data: bytes) -> int:
    """Read a DWORD; some devices give fewer octets. Raises Malformed for none at all."""
    reader = Reader(data[:4].ljust(4, b"\0") if data else data, "CIP word")
    return reader.u32_little()
