"""A device as far as it is known, and which of several values is shown.

Every value keeps the method that said it; which of several is shown follows
``protocols.TRUST``.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from ipaddress import IPv4Address, IPv6Address
from typing import NamedTuple

from portcall.core.address import Mac
from portcall.core.catalog.catalog import Codes
from portcall.core.find.protocols import TRUST
from portcall.core.find.sighting import Door, Field, FoundPart, Method, Said, Told
from portcall.core.talk.request import AddressProtocol

_RANK = {method: rank for rank, method in enumerate(TRUST)}


class Asking(NamedTuple):
    """The requests of a device for an address: how many, the first and the last."""

    protocol: AddressProtocol
    times: int
    first: float
    last: float

    def again(self, at: float) -> Asking:
        """And once more."""
        return Asking(self.protocol, self.times + 1, min(self.first, at), max(self.last, at))

    @property
    def every(self) -> float | None:
        """Seconds between two of its requests, on average; None for one."""
        return (self.last - self.first) / (self.times - 1) if self.times > 1 else None


_PLATE = (Field.PRODUCT, Field.DESCRIPTION, Field.KIND)

MANY_ADDRESSES = 16
"""A MAC that has so many answers for others: a router with proxy ARP (RFC 1027)."""


@dataclass(frozen=True, slots=True)
class Device:
    """Anything on the plant network that is not the workstation, as far as it is known."""

    mac: Mac | None
    addresses: tuple[IPv4Address, ...] = ()
    said: Mapping[Said, float] = field(default_factory=dict)
    """Each value, and when it was last said."""
    methods: tuple[Method, ...] = ()
    asks: tuple[Asking, ...] = ()
    rivals: tuple[Mac, ...] = ()
    """Other MACs that answer for one of its addresses."""
    codes: tuple[Codes, ...] = ()
    ipv6: tuple[IPv6Address, ...] = ()
    heard: float = 0.0
    """When it was last heard of."""
    parts: tuple[FoundPart, ...] = ()
    """What was seen inside it, where somebody asked; those that are not there among them."""

    @property
    def answers_for_others(self) -> bool:
        """Whether it has more addresses than a device has of its own."""
        return len(self.addresses) >= MANY_ADDRESSES

    def value(self, wanted: Field) -> str | None:
        """The most trusted value of a field as it is written, or None."""
        shown = self._shown(wanted)
        return str(shown.value) if shown else None

    def says(self, wanted: Field) -> Method | None:
        """Which method the value of a field that is shown comes from, or None."""
        shown = self._shown(wanted)
        return shown.method if shown else None

    @property
    def mask(self) -> IPv4Address | None:
        """The mask that it says it has; some say what is none."""
        return self._address(Field.MASK)

    @property
    def gateway(self) -> IPv4Address | None:
        """The gateway that it says it has."""
        return self._address(Field.GATEWAY)

    def _address(self, wanted: Field) -> IPv4Address | None:
        shown = self._shown(wanted)
        return shown.value if shown and isinstance(shown.value, IPv4Address) else None

    def age(self, now: float, *wanted: Field) -> float | None:
        """Seconds since the oldest of these fields' values was last said; None where there is none.

        Only what is shown counts, and what the device said itself: lists do not age.
        """
        shown = [said for each in wanted if (said := self._shown(each))]
        told = [self.said[said] for said in shown if not said.method.is_list]
        return now - min(told) if told else None

    def _shown(self, wanted: Field) -> Said | None:
        found = [said for said in self.said if said.field is wanted]
        return min(found, key=lambda said: _RANK[said.method]) if found else None

    @property
    def nameplate(self) -> str:
        """The product and the serial number, as far as they are known."""
        what = next((v for f in _PLATE if (v := self.value(f))), "")
        serial = self.value(Field.SERIAL)
        return ", ".join(filter(None, (what, f"serial {serial}" if serial else "")))

    def values(self, wanted: Field) -> tuple[Told, ...]:
        """Every value of a field, each once."""
        return tuple(dict.fromkeys(said.value for said in self.said if said.field is wanted))

    @property
    def doors(self) -> tuple[Door, ...]:
        """The doors that are open, sorted by number."""
        return tuple(sorted(each for each in self.values(Field.DOOR) if isinstance(each, Door)))


def in_order(devices: Iterable[Device]) -> tuple[Device, ...]:
    """Sorted by address as numbers, those without one last."""
    return tuple(sorted(devices, key=_order))


def _order(device: Device) -> tuple[bool, int, bytes]:
    first = int(device.addresses[0]) if device.addresses else 0
    return (not device.addresses, first, device.mac.octets if device.mac else b"")


def is_one_device(found: Sequence[Device]) -> bool:
    """Whether several MACs are plugs of one device: one tells the others' MACs as its own, or each
    says the same product and serial number.

    Two devices of one product differ in their serial number; what tells none is not known.
    """
    macs = {each.mac for each in found}
    for each in found if len(found) > 1 else ():
        if macs <= {each.mac, *(mac for part in each.parts for mac in part.macs)}:
            return True
    told = {(each.value(Field.PRODUCT), each.value(Field.SERIAL)) for each in found}
    return len(found) > 1 and len(told) == 1 and None not in next(iter(told))
