"""A sighting: one piece of evidence that a device exists."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from enum import StrEnum
from ipaddress import IPv4Address, IPv4Interface, IPv6Address
from typing import ClassVar, NamedTuple, Protocol, TypeAlias

from portcall.core.address import Mac
from portcall.core.catalog.catalog import Codes
from portcall.core.finding import Finding
from portcall.core.part_path import PartPath
from portcall.core.printable import DeviceText, told_by_others
from portcall.core.talk.ask_each import Question
from portcall.core.talk.request import AddressProtocol


class Method(str):
    """The name of a way of finding or identifying, or of a list that can tell a maker or a name.

    Of one name there is one object. Here stand those that the rest of the house speaks of; what
    each is stands at the end of its module (``protocol.Protocol``).
    """

    __slots__ = ()

    LISTEN: ClassVar[Method]
    DHCP: ClassVar[Method]
    LLDP: ClassVar[Method]
    ARP: ClassVar[Method]
    IPV6: ClassVar[Method]
    DCP: ClassVar[Method]
    CIP: ClassVar[Method]
    BACNET: ClassVar[Method]
    MDNS: ClassVar[Method]
    SNMP: ClassVar[Method]
    NETBIOS: ClassVar[Method]
    MODBUS: ClassVar[Method]
    OPCUA: ClassVar[Method]
    WEB: ClassVar[Method]
    PORTS: ClassVar[Method]
    PLAN: ClassVar[Method]
    REGISTRY: ClassVar[Method]
    CATALOG: ClassVar[Method]

    @property
    def is_list(self) -> bool:
        """Whether it is a list that is looked up, and nothing on the wire."""
        return self in (Method.PLAN, Method.REGISTRY, Method.CATALOG)


for _name in Method.__annotations__:
    setattr(Method, _name, Method(_name.lower()))


class Field(StrEnum):
    """The fields of a device besides its addresses."""

    MAKER = "maker"
    PRODUCT = "product"
    KIND = "kind"
    SERIAL = "serial"
    FIRMWARE = "firmware"
    NAME = "name"
    DESCRIPTION = "description"
    PLACE = "place"
    MASK = "mask"
    GATEWAY = "gateway"
    OBTAINS = "obtains"
    """How it gets its address."""
    DOOR = "port"
    """A door that is open (``Door``); one of several."""
    PORT_HERE = "port here"
    """The port of its own that this cable is in, as it says."""
    MANNER = "manner"
    """How it behaves, in a sentence for the engineer; one of several."""
    EITHER = "either"
    """What one of the devices at its address says, and nobody knows which; one of several."""
    SERVES = "serves"
    """What it gives to others: DHCP."""
    STATION = "station number"
    BATTERY = "battery"
    """Both as an instrument keeps them in registers."""

    @property
    def is_single(self) -> bool:
        """Whether a device has one value of it."""
        return self not in _OTHERWISE


_OTHERWISE = (
    *(Field.DOOR, Field.PORT_HERE, Field.MANNER, Field.EITHER),
    *(Field.STATION, Field.BATTERY),
)


class Door(NamedTuple):
    """A TCP port that is open, with the name it goes by."""

    port: int
    name: str = ""

    def __str__(self) -> str:
        return f"{self.port} {self.name}".strip()


Told: TypeAlias = DeviceText | IPv4Address | Door | Finding
"""A value as it is kept: a device's text, a mask or gateway, a door, or how it behaves."""


class Said(NamedTuple):
    """A value, and the method that said it."""

    field: Field
    value: Told
    method: Method


class Learnt(NamedTuple):
    """The values that an answer tells of the device that was asked."""

    said: tuple[Said, ...] = ()
    codes: Codes | None = None


class PartState(StrEnum):
    """What was seen of a part; the words are part of the record."""

    THERE = "there"
    NO_LINK = "no link"
    """An interface that is there, and says that nothing is plugged in."""
    NOT_THERE = "not there"
    """Who would know says so: the gateway of a unit, the rack of a slot."""
    SILENT = "silent"
    """No answer, and nobody says why."""
    ITSELF = "itself"
    """It is no part: the device itself answers for it, as it does for any other."""


@dataclass(frozen=True, slots=True)
class FoundPart:
    """A part of a device that was asked for, by a method; ``evidence`` says what tells its state.

    ``interfaces`` are its own addresses, each with its mask, one of 32 bits where none was told;
    ``macs`` its own. ``seconds`` is how long its slowest answer took, 0 where that was not told.
    """

    path: PartPath
    state: PartState
    method: Method
    said: tuple[Said, ...] = ()
    interfaces: tuple[IPv4Interface, ...] = ()
    macs: tuple[Mac, ...] = ()
    codes: Codes | None = None
    evidence: Finding | None = None
    seconds: float = 0.0

    @property
    def is_there(self) -> bool:
        """Whether it exists."""
        return self.state in (PartState.THERE, PartState.NO_LINK)

    def value(self, wanted: Field) -> str | None:
        """The first value of a field, as it is written, or None."""
        return next((str(each.value) for each in self.said if each.field is wanted), None)


class Sighting(NamedTuple):
    """When, by which method, which addresses, and what was said; ``asks`` when it wanted one.

    A tuple, which is made in a fifth of a frozen dataclass's time: a sweep makes ten thousands.
    """

    at: float
    method: Method
    mac: Mac | None = None
    address: IPv4Address | None = None
    said: tuple[Said, ...] = ()
    asks: AddressProtocol | None = None
    codes: Codes | None = None
    ipv6: IPv6Address | None = None
    vlan: int | None = None
    """The VLAN in which it was heard, for a tagged frame; None for this wire itself."""
    part: FoundPart | None = None
    """What was seen of one of its parts."""

    @property
    def lacks_address(self) -> bool:
        """Whether the device has none: it asks for one, or says so by DCP."""
        return self.address is None and (self.asks is not None or self.method is Method.DCP)


class IdentityQuestion(Question[Learnt], Protocol):
    """A question by UDP that asks a device who it is."""

    method: Method


def sighting_of(method: Method, address: IPv4Address, learnt: Learnt, now: float) -> Sighting:
    """The sighting that an answer makes: of the device at an address, by a method."""
    return Sighting(now, method, address=address, said=learnt.said, codes=learnt.codes)


def said_by(method: Method, *values: tuple[Field, Told | str | None]) -> tuple[Said, ...]:
    """The values that a method told; empty ones were not told. Text is a device's text."""
    return tuple(
        Said(field, as_text(value) if type(value) is str else value, method)  # type: ignore[arg-type]
        for field, value in values
        if value
    )


def mask_in(said: Iterable[Said]) -> IPv4Address | None:
    """The first mask that was told, or None."""
    masks = (each.value for each in said if each.field is Field.MASK)
    return next((mask for mask in masks if isinstance(mask, IPv4Address)), None)


def as_text(value: str) -> DeviceText:
    """Text that others chose, as long as it is."""
    return told_by_others(value, 2 * len(value))
