"""A look as it is written down: who was there, what each said, and what could be seen at all.

It has the shape of ``find --json``, so that a file made by that is a look, too.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass, field, replace
from functools import partial
from ipaddress import IPv4Address, IPv4Interface
from typing import Any

from portcall.core.address import AddressRange, Mac, parse_range
from portcall.core.document import (
    OddDocument,
    Part,
    a_mac,
    a_text,
    an_address,
    an_interface,
    an_object,
    parsed,
    told_text,
)
from portcall.core.find.device import Device
from portcall.core.find.protocols import PROTOCOLS
from portcall.core.find.sighting import Field, Method, Said, Sighting
from portcall.core.find.switch_tables import SwitchTables, read_tables
from portcall.core.finding import Finding, as_json
from portcall.core.record.entry import devices_apart, line_of
from portcall.core.record.parts import SeenPart, parts_document, read_parts, seen_parts
from portcall.core.record.said import a_method, read_said, said_document
from portcall.core.talk.request import AddressProtocol

_MOST_DEVICES = 200_000
_MOST_SAID = 64
_MOST_SWITCHES = 256
_LONGEST = 400
_MOST_SOUGHT = 8
"""Texts that are looked for in the lines of devices; for more, each is read."""


def device_document(device: Device, remarks: Sequence[Finding] | None = None) -> dict[str, Any]:
    """A device as ``find --json`` has it; the logbook leaves the remarks out."""
    single = (each for each in Field if each.is_single)
    return {
        "mac": str(device.mac) if device.mac else None,
        "addresses": [str(address) for address in (*device.addresses, *device.ipv6)],
        **{each.value: device.value(each) for each in single},
        "ports": [str(door) for door in device.doors],
        "said": [said_document(said) for said in device.said],
        "methods": list(device.methods),
        "asks": [asking.protocol.value for asking in device.asks],
        **parts_document(device.parts),
        "remarks": [str(remark) for remark in remarks or ()],
        **({} if remarks is None else {"codes": [as_json(remark) for remark in remarks]}),
    }


def sightings_in(device: Part) -> Iterator[Sighting]:
    """The sightings behind a device's document: for each method one, at each of its addresses.

    What plan and registry said then is not taken: those that are here now are asked. What is odd is
    left out.
    """
    mac = device.get("mac", a_mac)
    addresses: list[IPv4Address | None] = [*device.each("addresses", an_address)]
    told: dict[Method, list[Said]] = {each: [] for each in device.each("methods", a_method)}
    for part in device.parts("said", _MOST_SAID):
        with suppress(OddDocument):
            said = read_said(part)
            told.setdefault(said.method, []).append(said)
    for method in (Method.PLAN, Method.REGISTRY):
        told.pop(method, None)
    for address in addresses or [None]:
        for method, values in told.items():
            yield Sighting(0.0, method, mac, address, tuple(values))
        for protocol in device.each("asks", AddressProtocol):
            yield Sighting(0.0, Method.LISTEN, mac, address, asks=protocol)
    for seen in read_parts(device):
        yield Sighting(0.0, seen.method, mac, next(iter(addresses), None), part=seen)


@dataclass(frozen=True, slots=True)
class SeenDevice:
    """A device as it was seen: ``values`` by field, ``by`` the method that said each."""

    mac: str
    addresses: tuple[str, ...]
    values: Mapping[str, str]
    by: Mapping[str, str]
    doors: tuple[str, ...]
    methods: frozenset[str]
    parts: Mapping[str, SeenPart] = field(default_factory=dict)
    """Those that were asked for, by their paths."""

    @property
    def called(self) -> str:
        """Its name, where it has one."""
        return self.values.get("name", "")


@dataclass(frozen=True, slots=True)
class SeenLook:
    """A look: its devices as they are written, and what it can be held against.

    A device is a line of JSON, or an object of it, and is read when it is asked for: of two looks
    of ten thousands, most are the same in both, and as lines they take a fifth of the memory.
    ``ranges`` were asked address by address; ``not_run`` are methods that could not run; ``whole``
    says that it came to its end, with the cable in.
    """

    written: Sequence[str | Mapping[str, Any]]
    ranges: tuple[AddressRange, ...] = ()
    not_run: frozenset[str] = frozenset()
    methods: frozenset[str] = frozenset()
    whole: bool = True
    unasked: bool = field(default=False)
    """Whether nothing says which ranges it asked: a file of an older version."""
    switches: tuple[SwitchTables, ...] = ()
    """What managed switches told of their ports."""
    own: Mac | None = None
    """The MAC of the adapter that looked."""
    own_addresses: tuple[IPv4Interface, ...] = ()

    def __len__(self) -> int:
        """How many devices it has."""
        return len(self.written)

    @property
    def lines(self) -> Sequence[str]:
        """Its devices as lines; equal ones are equal."""
        return [each if isinstance(each, str) else line_of(each) for each in self.written]

    def devices_with(self, texts: Collection[str]) -> Iterator[SeenDevice]:
        """Its devices in which one of some texts stands, and maybe others."""
        several = len(texts) > _MOST_SOUGHT
        for each in self.written:
            if several or not isinstance(each, str) or any(text in each for text in texts):
                yield read_device(each)

    def sightings(self) -> Iterator[Sighting]:
        """The sightings of its devices."""
        for each in self.written:
            yield from sightings_in(Part(parsed(each) if isinstance(each, str) else each))

    def macs_at(self, addresses: Collection[str]) -> dict[str, set[str]]:
        """The MACs that have each of some addresses."""
        found: dict[str, set[str]] = {}
        for device in self.devices_with(addresses):
            for address in device.addresses if device.mac else ():
                if address in addresses:
                    found.setdefault(address, set()).add(device.mac)
        return found

    def has_asked(self, address: IPv4Address) -> bool:
        """Whether it came to its end, and asked who has an address."""
        asked = any(address in span for span in self.ranges)
        return self.whole and Method.ARP in self.methods and asked

    def could_see(self, device: SeenDevice) -> str | None:
        """Why a device that this look does not have may have been there all the same, or None."""
        if not self.whole:
            return "the look was interrupted, or its cable was out"
        by = device.methods - _LISTS
        if by and by <= _OVERHEARD:
            return "it was only overheard, and need not have spoken"
        if by and not by & self.methods:
            return f"it was seen by {', '.join(sorted(by))} only, which did not run"
        if self.unasked or not device.addresses or by & _EVERYWHERE:
            return None
        at = Part({"addresses": list(device.addresses)}).each("addresses", an_address)
        if not any(each in span for each in at for span in self.ranges):
            return f"{device.addresses[0]} was not asked"
        return None


_LISTS = frozenset(method for method in PROTOCOLS if method.is_list)
_OVERHEARD = frozenset((Method.LISTEN, Method.LLDP))
_EVERYWHERE = frozenset((Method.DCP, Method.IPV6))
"""Methods that reach everybody on the wire, whatever address they have."""


def read_look(body: object) -> SeenLook | None:
    """A look from JSON; None for what is none. What is odd in a device loses that alone."""
    look = Part(body)
    if not look.has_list("devices"):
        return None
    devices = look.each("devices", an_object, _MOST_DEVICES)
    ran = look.each("methods", a_text) if look.has_list("methods") else _said_in(devices)
    own = look.part("workstation")
    return SeenLook(
        written=list({key: each for each in devices if (key := _key(each))}.values()),
        ranges=tuple(look.each("asked", _range)),
        not_run=frozenset(
            method for each in look.parts("not_run") if (method := each.get("method", a_text))
        ),
        methods=frozenset(ran),
        whole=not look.get("interrupted", bool) and not look.get("cable_out", bool),
        unasked=not look.has_list("asked"),
        switches=tuple(filter(None, map(read_tables, look.parts("switches", _MOST_SWITCHES)))),
        own=own.get("mac", a_mac),
        own_addresses=tuple(own.each("addresses", an_interface)),
    )


def read_look_text(text: str) -> SeenLook | None:
    """A look from the text that an entry holds; its devices stay lines. None for what is none."""
    rest, lines = devices_apart(text)
    look = read_look(parsed(rest))
    if look is None or not lines:
        return look
    return replace(look, written=lines[:_MOST_DEVICES])


def read_device(written: str | Mapping[str, Any]) -> SeenDevice:
    """A device from its line or object."""
    return _device(Part(parsed(written) if isinstance(written, str) else written))


def key_of(device: SeenDevice) -> str:
    """The key of a device in a look: its MAC, or where nobody told that, its first address."""
    return device.mac or next(iter(device.addresses), "")


def _key(document: Mapping[str, Any]) -> str:
    """The key of a device: its MAC, or where nobody told that, its first address."""
    addresses = document.get("addresses")
    first = addresses[0] if isinstance(addresses, list) and addresses else ""
    return str(document.get("mac") or first)


def _said_in(documents: Iterable[Mapping[str, Any]]) -> Iterator[str]:
    return (method for each in documents for method in Part(each).each("methods", a_text))


def _range(value: object) -> AddressRange:
    return parse_range(a_text(value))


_long_text = partial(told_text, longest=_LONGEST)
_SINGLE = tuple(each.value for each in Field if each.is_single)


def _device(device: Part) -> SeenDevice:
    single = ((key, device.get(key, _long_text)) for key in _SINGLE)
    values = {key: value for key, value in single if value}
    by: dict[str, str] = {}
    for said in device.parts("said"):
        what = said.get("what", a_text, "")
        if said.get("value", _long_text) == values.get(what, ""):
            by.setdefault(what, said.get("by", a_text, ""))
    return SeenDevice(
        device.get("mac", a_text, ""),
        tuple(device.each("addresses", a_text)),
        values,
        by,
        tuple(device.each("ports", told_text)),
        frozenset(device.each("methods", a_text)),
        seen_parts(device),
    )
