"""Sightings become devices.

Same MAC, same device. An address behind two MACs is a conflict to show, not to merge away. What
was said of an address whose MAC nobody told belongs to the device with that address, when there is
exactly one; where there are several, each of them is said to be possibly meant.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Iterator
from dataclasses import dataclass, field, replace
from ipaddress import IPv4Address, IPv6Address
from itertools import chain

from portcall.core.address import Mac
from portcall.core.catalog.catalog import Catalog, Codes
from portcall.core.find import sentences as say
from portcall.core.find.device import Asking, Device, in_order
from portcall.core.find.inside.merging import together
from portcall.core.find.sighting import (
    Field,
    FoundPart,
    Method,
    Said,
    Sighting,
    Told,
    as_text,
)
from portcall.core.part_path import PartPath
from portcall.core.plan.rows import Plan
from portcall.core.talk.request import AddressProtocol

_MOST_SAID = 64
"""Values kept of one device: one that invents new ones for ever is not followed."""
_MOST_ADDRESSES = 1024
_MOST_PARTS = 1024
_MOST_DEVICES = 100_000

_NEVER = float("-inf")


@dataclass(slots=True)
class _Gathered:
    """The sightings of one MAC, or of one address whose MAC is not known.

    The dictionaries without values are sets that keep their order.
    """

    mac: Mac | None
    heard: float
    addresses: dict[IPv4Address, float] = field(default_factory=dict)
    """Where it was heard, and when last."""
    told: dict[IPv4Address, float] | None = None
    """Where it says by LLDP that it is managed: its own address only if no other is heard there."""
    methods: tuple[Method, ...] = ()
    said: dict[Said, float] | None = None
    asks: dict[AddressProtocol, Asking] | None = None
    codes: dict[Codes, float] | None = None
    ipv6: dict[IPv6Address, None] | None = None
    lacked: float = _NEVER
    """When it last showed that it has no address."""
    parts: dict[tuple[Method, PartPath], FoundPart] | None = None

    def add(self, seen: Sighting) -> None:
        if seen.at > self.heard:
            self.heard = seen.at
        if seen.address is not None and seen.method is Method.LLDP:
            if len(self.told or ()) < _MOST_ADDRESSES:
                self.told = {**(self.told or {}), seen.address: seen.at}
        elif seen.address is not None and len(self.addresses) < _MOST_ADDRESSES:
            self.addresses[seen.address] = seen.at
        if seen.lacks_address:
            self.lacked = seen.at
        if seen.method not in self.methods:
            self.methods += (seen.method,)
        if seen.said:
            self.said = self.said if self.said is not None else {}
            for each in seen.said:
                if each in self.said or len(self.said) < _MOST_SAID:
                    self.said[each] = seen.at
        if seen.asks:
            self.asks = self.asks if self.asks is not None else {}
            before = self.asks.get(seen.asks, Asking(seen.asks, 0, seen.at, seen.at))
            self.asks[seen.asks] = before.again(seen.at)
        if seen.codes and len(self.codes or ()) < _MOST_SAID:
            self.codes = {**(self.codes or {}), seen.codes: seen.at}
        if seen.ipv6 and len(self.ipv6 or ()) < _MOST_SAID:
            self.ipv6 = {**(self.ipv6 or {}), seen.ipv6: None}
        if seen.part:
            self.parts = self.parts if self.parts is not None else {}
            if len(self.parts) < _MOST_PARTS:
                self.parts[seen.part.method, seen.part.path] = seen.part

    def leave(self, before: float, taken: Collection[IPv4Address]) -> list[IPv4Address]:
        """Drop the addresses that the device is known to have left since ``before``, and return
        them.

        Those are all at which it was not heard since, when it was heard at another address or has
        none now; otherwise only those that are ``taken`` by another device.
        """
        elsewhere = self.lacked >= before or any(at >= before for at in self.addresses.values())
        left = [
            address
            for address, at in self.addresses.items()
            if at < before and (elsewhere or address in taken)
        ]
        for address in left:
            del self.addresses[address]
        # Announcements come half a minute apart, so only a newer one can withdraw what an older one
        # said.
        newest = max((self.told or {}).values(), default=before)
        self.told = {a: at for a, at in (self.told or {}).items() if at >= min(before, newest)}
        return left

    def since(self, before: float) -> _Gathered:
        """The values that were told since."""
        said = {each: at for each, at in (self.said or {}).items() if at >= before}
        codes = {each: at for each, at in (self.codes or {}).items() if at >= before}
        methods = tuple(dict.fromkeys(each.method for each in said))
        return _Gathered(None, self.heard, self.addresses, None, methods, said, codes=codes)

    def drop_contradicted(self, before: float) -> None:
        """Drop values that were not said again since ``before``, where their method said something
        else.

        A method says all it knows of a field at the same time. How a device behaves is said along
        with the rest.
        """
        if not self.said or all(at >= before for at in self.said.values()):
            return
        since = {(said.field, said.method) for said, at in self.said.items() if at >= before}
        since |= {(Field.MANNER, method) for _, method in since}
        self.said = {
            said: at
            for said, at in self.said.items()
            if at >= before or (said.field, said.method) not in since
        }

    def with_all_of(self, other: _Gathered) -> _Gathered:
        """This device, with what was said of its address by a method that told no MAC."""
        return _Gathered(
            self.mac,
            max(self.heard, other.heard),
            {**self.addresses, **other.addresses},
            self.told,
            tuple(dict.fromkeys(self.methods + other.methods)),
            {**(self.said or {}), **(other.said or {})},
            self.asks,
            {**(self.codes or {}), **(other.codes or {})},
            self.ipv6,
            self.lacked,
            {**(self.parts or {}), **(other.parts or {})},
        )


@dataclass(slots=True)
class Gathering:
    """Takes sightings one by one, and can say at any time which devices they make.

    ``catalog`` and ``maker_of`` put words to numbers and MACs.
    """

    maker_of: Callable[[Mac], str | None] = lambda mac: None
    plan: Plan = field(default_factory=Plan)
    catalog: Catalog = field(default_factory=Catalog)
    is_full: bool = False
    """Whether devices were seen beyond those that there is room for; they are not listed."""
    _by_mac: dict[Mac, _Gathered] = field(default_factory=dict)
    _by_address: dict[IPv4Address, _Gathered] = field(default_factory=dict)

    def add(self, seen: Sighting) -> None:
        """Take one more; beyond a hundred thousand devices, new ones are not taken."""
        if seen.mac is not None:
            known = self._by_mac.get(seen.mac)
            self.is_full = self.is_full or (known is None and len(self._by_mac) >= _MOST_DEVICES)
            if known is None and len(self._by_mac) < _MOST_DEVICES:
                known = self._by_mac[seen.mac] = _Gathered(seen.mac, seen.at)
        elif seen.address is not None:
            known = self._by_address.get(seen.address)
            if known is None and len(self._by_address) < _MOST_DEVICES:
                known = self._by_address[seen.address] = _Gathered(None, seen.at)
        else:
            return
        if known is not None:
            known.add(seen)

    @property
    def count(self) -> int:
        """About how many devices there are, without working it out."""
        return len(self._by_mac)

    def heard_at(self, addresses: Collection[IPv4Address]) -> int:
        """At how many of these addresses somebody was heard."""
        known = chain(self._by_mac.values(), self._by_address.values())
        return len(
            {address for each in known for address in each.addresses}.intersection(addresses)
        )

    def forget(self, before: float) -> None:
        """At the end of a look that began at ``before``: drop what is no longer so.

        A device is no longer at an address where it was not heard since, when it was heard at
        another, shows that it has none, or another device was heard there. What methods that tell
        no MAC said of that address goes with it. A value is dropped when the method that gave it
        gave another.
        """
        here = {
            a
            for known in self._by_mac.values()
            for a, at in known.addresses.items()
            if at >= before
        }
        left: set[IPv4Address] = set()
        for known in self._by_mac.values():
            left.update(known.leave(before, here))
        for address in left:
            said = self._by_address.pop(address, None)
            if said is not None and said.heard >= before:
                self._by_address[address] = said.since(before)
        for known in (*self._by_mac.values(), *self._by_address.values()):
            known.drop_contradicted(before)

    def devices(self) -> tuple[Device, ...]:
        """The devices, in order."""
        holders: dict[IPv4Address, list[Mac]] = {}
        for mac, known in self._by_mac.items():
            for address in known.addresses:
                holders.setdefault(address, []).append(mac)
        heard = {address: tuple(macs) for address, macs in holders.items()}
        for mac, known in self._by_mac.items():
            for address in known.told or ():
                if address not in heard:
                    holders.setdefault(address, []).append(mac)
        extra: dict[Mac, _Gathered] = {}
        alone: list[_Gathered] = []
        for address, said in self._by_address.items():
            macs = holders.get(address, [])
            if len(macs) == 1:
                whole = extra.get(macs[0], self._by_mac[macs[0]])
                extra[macs[0]] = whole.with_all_of(said)
            elif macs:
                told = {each[:2] for mac in macs for each in self._by_mac[mac].said or ()}
                for mac in macs:
                    whole = extra.get(mac, self._by_mac[mac])
                    extra[mac] = whole.with_all_of(_one_of_several(address, said, told))
            else:
                alone.append(said)
        gathered = (extra.get(mac, known) for mac, known in self._by_mac.items())
        devices = [self._device(known, holders) for known in (*gathered, *alone)]
        return in_order(devices)

    def _device(self, known: _Gathered, holders: dict[IPv4Address, list[Mac]]) -> Device:
        codes = tuple(known.codes or ())
        rivals = {
            other
            for address in known.addresses
            for other in holders.get(address, ())
            if other != known.mac
        }
        own = {*known.addresses, *(a for a in known.told or () if known.mac in holders.get(a, ()))}
        said = {**(known.said or {}), **dict.fromkeys(self._elsewhere(known, holders), known.heard)}
        return Device(
            known.mac,
            tuple(sorted(own)),
            {**said, **dict.fromkeys(self._looked_up(known.mac, codes), known.heard)},
            known.methods,
            tuple((known.asks or {}).values()),
            tuple(sorted(rivals)),
            codes,
            tuple(sorted(known.ipv6 or ())),
            known.heard,
            together(map(self._named, (known.parts or {}).values())),
        )

    def _named(self, part: FoundPart) -> FoundPart:
        """A part, with the words that a catalogue has for its numbers."""
        if part.codes is None:
            return part
        return replace(part, said=(*part.said, *self._looked_up(None, (part.codes,))))

    def _elsewhere(self, known: _Gathered, holders: dict[IPv4Address, list[Mac]]) -> Iterator[Said]:
        """Where a device says that it is managed, and another answers."""
        for address in known.told or ():
            macs = holders.get(address, [])
            if known.mac not in macs:
                manner = say.MANAGED_ELSEWHERE(managed=address, holder=macs[0])
                yield Said(Field.MANNER, manner, Method.LLDP)

    def _looked_up(self, mac: Mac | None, codes: tuple[Codes, ...]) -> Iterator[Said]:
        """The values that the plan, the registry and the catalogue give."""
        for each in codes:
            maker, product = self.catalog.maker(each), self.catalog.product(each)
            if maker:
                yield Said(Field.MAKER, as_text(maker), Method.CATALOG)
            if product:
                yield Said(Field.PRODUCT, as_text(product.name), Method.CATALOG)
                if product.kind:
                    yield Said(Field.KIND, as_text(product.kind), Method.CATALOG)
        if mac is not None:
            maker = self.maker_of(mac)
            if maker:
                yield Said(Field.MAKER, as_text(maker), Method.REGISTRY)
            row = self.plan.by_mac(mac)
            if row:
                yield Said(Field.NAME, as_text(row.name), Method.PLAN)


def _one_of_several(
    address: IPv4Address, known: _Gathered, told: Collection[tuple[Field, Told]]
) -> _Gathered:
    """The texts that were told at an address which several devices have, for each of them.

    Not what is ``told`` of one of them: of that it is known who says it.
    """
    facts = dict.fromkeys(
        each.value
        for each in known.said or ()
        if each.field in (Field.NAME, Field.PRODUCT, Field.SERIAL, Field.DESCRIPTION)
        and each[:2] not in told
    )
    said = {}
    if facts:
        text = as_text(", ".join(map(str, facts)))
        said[Said(Field.EITHER, text, known.methods[0])] = known.heard
    return _Gathered(None, known.heard, said=said)


def merge(
    sightings: Iterable[Sighting],
    maker_of: Callable[[Mac], str | None] = lambda mac: None,
    plan: Plan | None = None,
    catalog: Catalog | None = None,
) -> tuple[Device, ...]:
    """The devices behind some sightings, in order."""
    gathering = Gathering(maker_of, plan or Plan(), catalog or Catalog())
    for seen in sightings:
        gathering.add(seen)
    return gathering.devices()
