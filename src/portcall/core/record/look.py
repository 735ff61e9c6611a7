"""A look as it is written down: who was there, what each said, and what could be seen at all.

It has the shape of ``find --json``, so that a file made by that is a look, too.
"""

from __future__ import annotations

import marshal
from collections.abc import Container, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from ipaddress import AddressValueError, IPv4Address, IPv4Interface
from typing import Any

from portcall.core.address import (
    AddressError,
    AddressRange,
    Mac,
    parse_interface,
    parse_mac,
    parse_range,
)
from portcall.core.find.device import Device
from portcall.core.find.protocols import PROTOCOLS, method_named
from portcall.core.find.sentences import MANNERS
from portcall.core.find.sighting import Door, Field, Method, Said, Sighting, Told
from portcall.core.find.switch_tables import SwitchTables, read_tables
from portcall.core.finding import Finding, Value, as_json, values_as_json
from portcall.core.printable import printable, told_by_others
from portcall.core.talk.request import AddressProtocol

_MOST_DEVICES = 200_000
_MOST_SAID = 64
_MOST_SWITCHES = 256
_LONGEST = 400


def device_document(device: Device, remarks: Sequence[Finding] | None = None) -> dict[str, Any]:
    """A device as ``find --json`` has it; the logbook leaves the remarks out."""
    single = (each for each in Field if each.is_single)
    return {
        "mac": str(device.mac) if device.mac else None,
        "addresses": [str(address) for address in (*device.addresses, *device.ipv6)],
        **{each.value: device.value(each) for each in single},
        "ports": [str(door) for door in device.doors],
        "said": [_said_document(said) for said in device.said],
        "methods": list(device.methods),
        "asks": [asking.protocol.value for asking in device.asks],
        "remarks": [str(remark) for remark in remarks or ()],
        **({} if remarks is None else {"codes": [as_json(remark) for remark in remarks]}),
    }


def _said_document(said: Said) -> dict[str, Any]:
    told: dict[str, Any] = {"what": said.field, "value": str(said.value), "by": said.method}
    if isinstance(said.value, Finding):
        told |= {"code": said.value.code, "values": values_as_json(said.value)}
    return told


def sightings_in(document: Mapping[str, Any]) -> Iterator[Sighting]:
    """The sightings behind a device's document: for each method one, at each of its addresses.

    What plan and registry said then is not taken: those that are here now are asked. What is odd is
    left out.
    """
    mac = _mac(document.get("mac"))
    listed = (_address(each) for each in _list(document.get("addresses")))
    addresses: list[IPv4Address | None] = [each for each in listed if each is not None]
    told: dict[Method, list[Said]] = {
        method: [] for each in _list(document.get("methods")) if (method := method_named(each))
    }
    for said in _list(document.get("said"))[:_MOST_SAID]:
        known = _said(said)
        if known is not None:
            told.setdefault(known.method, []).append(known)
    for method in (Method.PLAN, Method.REGISTRY):
        told.pop(method, None)
    asked = [_protocol(each) for each in _list(document.get("asks"))]
    for address in addresses or [None]:
        for method, values in told.items():
            yield Sighting(0.0, method, mac, address, tuple(values))
        for protocol in filter(None, asked):
            yield Sighting(0.0, Method.LISTEN, mac, address, asks=protocol)


@dataclass(frozen=True, slots=True)
class SeenDevice:
    """A device as it was seen: ``values`` by field, ``by`` the method that said each."""

    mac: str
    addresses: tuple[str, ...]
    values: Mapping[str, str]
    by: Mapping[str, str]
    doors: tuple[str, ...]
    methods: frozenset[str]

    @property
    def called(self) -> str:
        """Its name, where it has one."""
        return self.values.get("name", "")


@dataclass(frozen=True, slots=True)
class SeenLook:
    """A look: its devices as they are written, by what they go by, and what it can be held against.

    A device is read when it is asked for: of two looks of ten thousands, most are the same in both,
    and packed they take a fifth of the memory.
    ``ranges`` were asked address by address; ``not_run`` are methods that could not run; ``whole``
    says that it came to its end, with the cable in.
    """

    written: Mapping[str, bytes]
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

    def device(self, key: str) -> SeenDevice:
        """One of its devices."""
        return _device(marshal.loads(self.written[key]))

    def sightings(self) -> Iterator[Sighting]:
        """The sightings of its devices."""
        for packed in self.written.values():
            yield from sightings_in(marshal.loads(packed))

    def macs_at(self, addresses: Container[str]) -> dict[str, set[str]]:
        """The MACs that have each of some addresses."""
        found: dict[str, set[str]] = {}
        for packed in self.written.values():
            document = marshal.loads(packed)
            for address in _list(document.get("addresses")):
                if isinstance(address, str) and address in addresses and document.get("mac"):
                    found.setdefault(address, set()).add(str(document["mac"]))
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
        if not any(_address(each) in span for each in device.addresses for span in self.ranges):
            return f"{device.addresses[0]} was not asked"
        return None


_LISTS = frozenset(method for method in PROTOCOLS if method.is_list)
_OVERHEARD = frozenset((Method.LISTEN, Method.LLDP))
_EVERYWHERE = frozenset((Method.DCP, Method.IPV6))
"""Methods that reach everybody on the wire, whatever address they have."""


def read_look(body: Any) -> SeenLook | None:
    """A look from JSON; None for what is none. What is odd in a device loses that alone."""
    try:
        listed = body["devices"]
        if not isinstance(listed, list) or len(listed) > _MOST_DEVICES:
            return None
        not_run = frozenset(str(each["method"]) for each in body.get("not_run") or ())
        whole = not body.get("interrupted") and not body.get("cable_out")
    except (KeyError, TypeError, AttributeError):
        return None
    run = body.get("methods")
    said = [each for each in listed if isinstance(each, dict)]
    ran = frozenset(map(str, run)) if isinstance(run, list) else _said_in(said)
    written = {key: _packed(each) for each in said if (key := _key(each))}
    asked = body.get("asked")
    ranges = tuple(_ranges(asked)) if isinstance(asked, list) else ()
    unasked = not isinstance(asked, list)
    switches = tuple(filter(None, map(read_tables, _list(body.get("switches"))[:_MOST_SWITCHES])))
    own = body.get("workstation")
    own = own if isinstance(own, dict) else {}
    mac = _mac(own.get("mac"))
    interfaces = tuple(_interfaces(_list(own.get("addresses"))))
    return SeenLook(written, ranges, not_run, ran, bool(whole), unasked, switches, mac, interfaces)


def _packed(document: dict[str, Any]) -> bytes:
    """A device's document in few octets; equal ones with their keys in the same order are equal."""
    return marshal.dumps(document, _WITHOUT_REFERENCES)


_WITHOUT_REFERENCES = 2
"""The version of the format in which what is equal is written alike."""


def _key(document: Mapping[str, Any]) -> str:
    """The key of a device: its MAC, or where nobody told that, its first address."""
    mac, addresses = document.get("mac"), _list(document.get("addresses"))
    return str(mac or next(iter(addresses), ""))


def _said_in(documents: Iterable[Mapping[str, Any]]) -> frozenset[str]:
    methods = (method for each in documents for method in _list(each.get("methods")))
    return frozenset(method for method in methods if isinstance(method, str))


def _ranges(asked: list[Any]) -> Iterable[AddressRange]:
    for each in asked:
        try:
            yield parse_range(str(each))
        except AddressError:
            continue


def _interfaces(texts: list[Any]) -> Iterable[IPv4Interface]:
    for each in texts:
        try:
            yield parse_interface(str(each))
        except AddressError:
            continue


def _address(text: Any) -> IPv4Address | None:
    try:
        return IPv4Address(text) if isinstance(text, str) else None
    except AddressValueError:
        return None


def _mac(text: Any) -> Mac | None:
    try:
        return parse_mac(text) if isinstance(text, str) else None
    except AddressError:
        return None


def _protocol(text: Any) -> AddressProtocol | None:
    known = isinstance(text, str) and text in {each.value for each in AddressProtocol}
    return AddressProtocol(text) if known else None


def _said(said: Any) -> Said | None:
    if not isinstance(said, dict) or not isinstance(said.get("value"), str):
        return None
    method, what = method_named(said.get("by")), said.get("what")
    if method is None or not isinstance(what, str) or what not in set(Field):
        return None
    value = _told(Field(what), said)
    return Said(Field(what), value, method) if value is not None else None


def _told(field: Field, said: Mapping[str, Any]) -> Told | None:
    """The value of a field as it was before it was written down; None for what is none."""
    text = told_by_others(said["value"])
    if field in (Field.MASK, Field.GATEWAY):
        return _address(said["value"])
    if field is Field.PORT:
        number, _, name = text.partition(" ")
        return Door(int(number), name) if number.isdecimal() and len(number) <= 5 else None
    if field is Field.MANNER:
        return _manner(said) or text
    return text


def _manner(said: Mapping[str, Any]) -> Finding | None:
    kind, values = MANNERS.get(str(said.get("code"))), said.get("values")
    if kind is None or not isinstance(values, dict) or values.keys() != kind.names:
        return None
    return kind(**{str(key): _plain(value) for key, value in values.items()})


def _plain(value: Any) -> Value:
    """A value of a sentence that was written down: a number, or text."""
    if isinstance(value, list):
        return [_plain(each) for each in value[:_MOST_SAID]]
    if value is None or isinstance(value, bool | int | float):
        return value
    return told_by_others(str(value))


_SINGLE = tuple(each.value for each in Field if each.is_single)


def _device(document: Mapping[str, Any]) -> SeenDevice:
    values = {
        key: told_by_others(value, _LONGEST)
        for key in _SINGLE
        if isinstance(value := document.get(key), str) and value
    }
    by: dict[str, str] = {}
    for said in _list(document.get("said")):
        if isinstance(said, dict) and said.get("value") == document.get(str(said.get("what"))):
            by.setdefault(str(said["what"]), str(said.get("by")))
    return SeenDevice(
        printable(str(document.get("mac") or "")),
        tuple(printable(str(each)) for each in _list(document.get("addresses"))),
        values,
        by,
        tuple(told_by_others(str(each)) for each in _list(document.get("ports"))),
        frozenset(str(each) for each in _list(document.get("methods"))),
    )


def _list(value: Any) -> list[Any]:
    return value if isinstance(value, list) else []
