"""The plan: which device shall have which address. Its rows, and finding one of them."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from ipaddress import IPv4Address, IPv4Interface, IPv4Network

from portcall.core.address import (
    Mac,
    assumed_prefix,
    parse_address,
    parse_interface,
    parse_mac,
)
from portcall.core.finding import Name
from portcall.core.part_path import PartKind, PartPath
from portcall.core.plan.expected import NOTHING_EXPECTED, Expected
from portcall.core.trouble import BadInput


@dataclass(frozen=True, slots=True)
class Subnet:
    """A subnet of the site, and the gateway devices in it use, if any."""

    network: IPv4Network
    gateway: IPv4Address | None = None


@dataclass(frozen=True, slots=True)
class Surroundings:
    """The options that all devices of a site are given when they ask for them."""

    domain: str = ""
    domain_servers: tuple[IPv4Address, ...] = ()
    time_servers: tuple[IPv4Address, ...] = ()


NOBODY = Name("")


@dataclass(frozen=True, slots=True)
class PlannedDevice:
    """One row of the plan; ``line`` is where it stands in the file, 0 when it was typed."""

    name: Name
    interface: IPv4Interface
    mac: Mac | None = None
    gateway: IPv4Address | None = None
    kind: str = ""
    place: str = ""
    note: str = ""
    mask_assumed: bool = False
    line: int = 0
    circuit: bytes = b""
    """Where a relay agent hears the device (RFC 3046 §3.1), for a row that has no MAC."""
    group: str = ""
    """What it belongs to: a cell, a panel, a line."""
    expected: Expected = NOTHING_EXPECTED
    """Who it should say that it is."""
    extra: tuple[tuple[str, str], ...] = ()
    """The cells of columns that have no meaning here, in the order of the file."""
    of: Name = NOBODY
    """The row whose device this is a part of; empty for a device."""
    part: PartPath | None = None
    """Which part of it."""
    has_no_address: bool = False
    """Whether it is a part that is reached by its device's address alone."""

    @property
    def where(self) -> str:
        """Where it is: its address, or of what it is a part."""
        return f"{self.part} of {self.of}" if self.has_no_address else str(self.address)

    @property
    def is_typed(self) -> bool:
        """Whether it is in no file."""
        return self.line == 0

    @property
    def is_served(self) -> bool:
        """Whether a device can be recognised as this one when it asks for an address."""
        return self.mac is not None or bool(self.circuit)

    @property
    def address(self) -> IPv4Address:
        """The planned address, without its mask; of a part without one, that of its device."""
        return self.interface.ip


@dataclass(frozen=True, slots=True)
class Plan:
    """The rows, in the order of the file, and the names of the columns it has.

    ``devices`` have an address of their own, which may be that of a further interface of a device;
    ``parts`` have none: units, modules, and interfaces that share one. Who goes through a plan
    goes through the first.
    """

    devices: tuple[PlannedDevice, ...] = ()
    columns: tuple[str, ...] = ()
    parts: tuple[PlannedDevice, ...] = ()
    _of: Mapping[str, tuple[PlannedDevice, ...]] = field(init=False, repr=False, compare=False)

    def __post_init__(self) -> None:
        """Know the parts of each device by its name."""
        found: dict[str, list[PlannedDevice]] = {}
        for row in self.rows:
            if row.of:
                found.setdefault(row.of.casefold(), []).append(row)
        object.__setattr__(self, "_of", {name: tuple(rows) for name, rows in found.items()})

    def __iter__(self) -> Iterator[PlannedDevice]:
        return iter(self.devices)

    @property
    def rows(self) -> tuple[PlannedDevice, ...]:
        """All rows, in the order of the file."""
        if not self.parts:
            return self.devices
        return tuple(sorted((*self.devices, *self.parts), key=lambda row: row.line))

    def parts_of(self, name: str) -> tuple[PlannedDevice, ...]:
        """The rows of a device's parts, those with an address of their own among them."""
        return self._of.get(name.casefold(), ())

    def row_of_part(
        self, mac: Mac | None, addresses: Iterable[IPv4Address], path: PartPath
    ) -> PlannedDevice | None:
        """The row of a part of the device that has this MAC or one of these addresses, or None."""
        holder = self.by_mac(mac) or next(filter(None, map(self.by_address, addresses)), None)
        if holder is None:
            return None
        parts = self.parts_of(holder.of or holder.name)
        return next((row for row in parts if row.part == path), None)

    def unit_products(self) -> dict[IPv4Address, dict[int, str]]:
        """What the units behind a device are planned to be: by its address, and their numbers."""
        found: dict[IPv4Address, dict[int, str]] = {}
        for row in self.parts:
            if row.part is not None and row.part.kind is PartKind.UNIT and row.expected.product:
                found.setdefault(row.address, {})[row.part.number] = row.expected.product
        return found

    def by_mac(self, mac: Mac | None) -> PlannedDevice | None:
        """The row for a MAC, or None."""
        return next((row for row in self.devices if mac is not None and row.mac == mac), None)

    def named(self, mac: Mac) -> str:
        """A MAC, with the name of its row where it has one."""
        row = self.by_mac(mac)
        return f"{mac} ({row.name})" if row else str(mac)

    def by_name(self, name: str) -> PlannedDevice | None:
        """The row of a name, in upper or lower case, or None."""
        folded = name.strip().casefold()
        every = (*self.devices, *self.parts)
        return next((row for row in every if row.name.casefold() == folded), None)

    def by_address(self, address: IPv4Address) -> PlannedDevice | None:
        """The row for an address, or None."""
        return next((row for row in self.devices if row.address == address), None)

    def with_pair(self, pair: PlannedDevice) -> Plan:
        """This plan with a typed pair standing in for the row of its address or MAC, or added.

        Raises BadInput when the pair's MAC and its address belong to two different rows.
        """
        here, there = self.by_address(pair.address), self.by_mac(pair.mac)
        if here and there and here is not there:
            raise BadInput(
                f"{pair.mac}={pair.interface}: the plan has {there.name} for this MAC and "
                f"{here.name} for this address",
                "correct the plan, or type an address that is free",
            )
        old = here or there
        if old is None:
            return Plan((*self.devices, pair), parts=self.parts)
        kept = old.gateway if old.gateway and old.gateway in pair.interface.network else None
        gateway = kept or pair.gateway
        new = replace(old, mac=pair.mac, interface=pair.interface, gateway=gateway)
        devices = tuple(new if row is old else row for row in self.devices)
        return Plan(devices, parts=self.parts)


NO_PLAN = Plan()


def prefix_for(address: IPv4Address, subnets: Iterable[Subnet]) -> int | None:
    """The prefix length of the site's subnet that holds an address, or None."""
    return next((s.network.prefixlen for s in subnets if address in s.network), None)


def gateway_for(interface: IPv4Interface, subnets: Iterable[Subnet]) -> IPv4Address | None:
    """The gateway that a device in a site's subnet uses, which is not itself; or None."""
    gateway = next((s.gateway for s in subnets if interface.ip in s.network), None)
    if gateway is None or gateway == interface.ip or gateway not in interface.network:
        return None
    return gateway


def parse_pair(text: str, subnets: Sequence[Subnet] = ()) -> PlannedDevice:
    """Read ``MAC=ADDRESS[/N]`` as typed; the MAC stands in as the name."""
    mac_text, equals, address_text = text.partition("=")
    if not equals:
        raise BadInput(f"{text}: write it as MAC=ADDRESS, 02-77-B1-00-00-21=10.61.20.21/24")
    mac = parse_mac(mac_text)
    assumed = False
    if "/" not in address_text:
        address = parse_address(address_text)
        prefix = prefix_for(address, subnets)
        assumed = prefix is None
        address_text = f"{address}/{prefix or assumed_prefix(address)}"
    interface = parse_interface(address_text)
    gateway = gateway_for(interface, subnets)
    return PlannedDevice(Name(str(mac)), interface, mac, gateway, mask_assumed=assumed)
