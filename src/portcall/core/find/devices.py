"""Sightings become devices.

Same MAC, same device. An address behind two MACs is a conflict to show, not to merge away. What
was said of an address whose MAC nobody told belongs to the device with that address, when there is
exactly one. Every value keeps its method; which of several is shown follows ``TRUST``.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from ipaddress import IPv4Address

from portcall.core.address import Mac
from portcall.core.find.sighting import Field, Method, Protocol, Said, Sighting
from portcall.core.plan import Plan

TRUST = (Method.PLAN, Method.REGISTRY, Method.CIP, Method.LISTEN, Method.ARP)
"""Whose word is shown where several spoke: the plan's names, the registry's makers, then what the
device said when asked, then what it said unasked."""


@dataclass(frozen=True, slots=True)
class Device:
    """Anything on the plant network that is not the workstation, as far as it is known."""

    mac: Mac | None
    addresses: tuple[IPv4Address, ...] = ()
    said: tuple[Said, ...] = ()
    methods: tuple[Method, ...] = ()
    asks: tuple[tuple[Protocol, int], ...] = ()
    rivals: tuple[Mac, ...] = ()
    """Other MACs that answer for one of its addresses."""

    def value(self, wanted: Field) -> str | None:
        """The most trusted value of a field, or None."""
        found = [said for said in self.said if said.field is wanted]
        return min(found, key=lambda said: TRUST.index(said.method)).value if found else None


@dataclass(slots=True)
class _Gathered:
    mac: Mac | None
    addresses: dict[IPv4Address, None] = field(default_factory=dict)
    said: dict[Said, None] = field(default_factory=dict)
    methods: dict[Method, None] = field(default_factory=dict)
    asks: dict[Protocol, int] = field(default_factory=dict)

    def add(self, sighting: Sighting) -> None:
        if sighting.address is not None:
            self.addresses[sighting.address] = None
        self.said.update(dict.fromkeys(sighting.said))
        self.methods[sighting.method] = None
        if sighting.asks:
            self.asks[sighting.asks] = self.asks.get(sighting.asks, 0) + 1


def merge(
    sightings: Iterable[Sighting],
    maker_of: Callable[[Mac], str | None] = lambda mac: None,
    plan: Plan | None = None,
) -> tuple[Device, ...]:
    """The devices behind some sightings, sorted by address as numbers, those without one last."""
    by_mac: dict[Mac, _Gathered] = {}
    by_address: dict[IPv4Address, _Gathered] = {}
    unattached: list[Sighting] = []
    for sighting in sightings:
        if sighting.mac is None:
            unattached.append(sighting)
        else:
            by_mac.setdefault(sighting.mac, _Gathered(sighting.mac)).add(sighting)
    holders: dict[IPv4Address, list[Mac]] = {}
    for mac, gathered in by_mac.items():
        for address in gathered.addresses:
            holders.setdefault(address, []).append(mac)
    for sighting in unattached:
        if sighting.address is None:
            continue
        macs = holders.get(sighting.address, [])
        if len(macs) == 1:
            by_mac[macs[0]].add(sighting)
        else:
            by_address.setdefault(sighting.address, _Gathered(None)).add(sighting)
    devices = [
        _device(gathered, holders, maker_of, plan or Plan())
        for gathered in (*by_mac.values(), *by_address.values())
    ]
    return tuple(sorted(devices, key=_order))


def _order(device: Device) -> tuple[bool, int, bytes]:
    first = int(device.addresses[0]) if device.addresses else 0
    return (not device.addresses, first, device.mac.octets if device.mac else b"")


def _device(
    gathered: _Gathered,
    holders: dict[IPv4Address, list[Mac]],
    maker_of: Callable[[Mac], str | None],
    plan: Plan,
) -> Device:
    said = list(gathered.said)
    mac = gathered.mac
    if mac is not None:
        maker = maker_of(mac)
        if maker:
            said.append(Said(Field.MAKER, maker, Method.REGISTRY))
        row = plan.by_mac(mac)
        if row:
            said.append(Said(Field.NAME, row.name, Method.PLAN))
    rivals = {
        other
        for address in gathered.addresses
        for other in holders.get(address, ())
        if other != mac
    }
    return Device(
        mac,
        tuple(sorted(gathered.addresses)),
        tuple(said),
        tuple(gathered.methods),
        tuple(gathered.asks.items()),
        tuple(sorted(rivals)),
    )
