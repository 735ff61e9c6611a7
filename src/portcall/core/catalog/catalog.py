"""The catalogue: names for the numbers that protocols give, and where makers' devices start.

What cannot be asked of a device, because it says only a number, is looked up here. It is built from
files that the user adds.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from enum import StrEnum
from typing import NamedTuple

from portcall.core.address import AddressRange
from portcall.core.catalog.registers import Description

USUAL_DOORS: Mapping[int, str] = {
    # Ports of the trade, by the names that engineers use. The industrial ones come first: a device
    # that drops connections it does not serve is asked for those before the others.
    44818: "CIP",
    502: "Modbus",
    4840: "OPC UA",
    102: "ISO transport",
    80: "web",
    443: "secure web",
    21: "FTP",
    22: "SSH",
    23: "Telnet",
    5900: "remote screen",
    8080: "web",
}
"""IANA service names and port numbers; 102 is RFC 1006, 5900 is RFC 6143."""


class Numbering(StrEnum):
    """The protocols that name makers, and some of them products, by numbers of their own."""

    CIP = "cip"
    DCP = "dcp"
    BACNET = "bacnet"
    SNMP = "snmp"


class Codes(NamedTuple):
    """The numbers by which a protocol names a maker and its product; a catalogue has the words."""

    numbering: Numbering
    maker: int
    product: int | None = None

    def __str__(self) -> str:
        shown = f"{self.numbering.upper()} maker {self.maker}"
        return shown if self.product is None else f"{shown}, product {self.product}"


@dataclass(frozen=True, slots=True)
class Product:
    """The name and kind of a product, for which its number stands."""

    name: str
    kind: str = ""


@dataclass(frozen=True, slots=True)
class Catalog:
    """Makers by protocol and number, products by their maker's too, addresses, doors."""

    makers: Mapping[Codes, str] = field(default_factory=dict)
    products: Mapping[Codes, Product] = field(default_factory=dict)
    defaults: tuple[AddressRange, ...] = ()
    doors: Mapping[int, str] = field(default_factory=dict)
    instruments: tuple[Description, ...] = ()
    """Where instruments keep in registers what they are."""

    def maker(self, codes: Codes) -> str | None:
        """The name of a maker, or None."""
        return self.makers.get(Codes(codes.numbering, codes.maker))

    def product(self, codes: Codes) -> Product | None:
        """The product for which the numbers stand, or None."""
        return self.products.get(codes)

    def with_all_of(self, other: Catalog) -> Catalog:
        """Both; where they differ, ``other`` is right."""
        return Catalog(
            {**self.makers, **other.makers},
            {**self.products, **other.products},
            tuple(dict.fromkeys((*self.defaults, *other.defaults))),
            {**self.doors, **other.doors},
            tuple({each.product: each for each in self.instruments + other.instruments}.values()),
        )

    @property
    def entries(self) -> frozenset[Codes | AddressRange | int | str]:
        """What is named: makers and products by codes, default ranges, doors, instruments."""
        named = (each.product for each in self.instruments)
        return frozenset((*self.makers, *self.products, *self.defaults, *self.doors, *named))

    @property
    def all_doors(self) -> dict[int, str]:
        """The usual doors and those of the catalogue."""
        return {**USUAL_DOORS, **self.doors}
