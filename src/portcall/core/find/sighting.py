"""A sighting: one piece of evidence that a device exists."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum
from ipaddress import IPv4Address

from portcall.core.address import Mac


class Method(StrEnum):
    """Ways of finding and identifying, and the two lists that can tell a maker or a name."""

    ARP = "arp"
    CIP = "cip"
    LISTEN = "listen"
    PLAN = "plan"
    REGISTRY = "registry"


class Field(StrEnum):
    """What can be known of a device besides its addresses."""

    MAKER = "maker"
    PRODUCT = "product"
    KIND = "kind"
    SERIAL = "serial"
    FIRMWARE = "firmware"
    NAME = "name"


class Protocol(StrEnum):
    """How a device asks for an address."""

    BOOTP = "BOOTP"
    DHCP = "DHCP"


@dataclass(frozen=True, slots=True)
class Said:
    """A value, and the method that said it."""

    field: Field
    value: str
    method: Method


@dataclass(frozen=True, slots=True)
class Sighting:
    """When, by which method, which addresses, and what was said; ``asks`` when it wanted one."""

    at: float
    method: Method
    mac: Mac | None = None
    address: IPv4Address | None = None
    said: tuple[Said, ...] = ()
    asks: Protocol | None = None
