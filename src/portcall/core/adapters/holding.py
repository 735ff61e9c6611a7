"""What becomes of the addresses that a visit added, from one look at the adapters to the next.

An adapter that is pulled out takes its addresses with it, and that is nobody's doing: they are put
on again when it is back. What something on this computer takes off is put on again once; whoever
takes it off twice wants it so, and is not fought with.
"""

from __future__ import annotations

from collections.abc import Collection, Iterator, Sequence
from dataclasses import dataclass
from enum import Enum, auto
from ipaddress import IPv4Interface

from portcall.core.adapters.adapter import Adapter, found_again
from portcall.core.address import Mac

GRACE = 0.6
"""Seconds in which it shows whether restore took an address off, or somebody else."""


class Happened(Enum):
    """The things that happen to an adapter that a visit uses, and to an address of the visit."""

    ADAPTER_GONE = auto()
    ADAPTER_BACK = auto()
    LINK_LOST = auto()
    LINK_BACK = auto()
    WENT_WITH_ADAPTER = auto()
    """The adapter is back without the address: to be put on again."""
    TAKEN_OFF = auto()
    """By something on this computer: to be put on again."""
    TAKEN_OFF_AGAIN = auto()
    """Not held any longer."""
    RESTORED = auto()
    """By restore: not held any longer."""
    LEASE_ENDED = auto()
    """Not held any longer."""


@dataclass(frozen=True, slots=True)
class Change:
    """One thing that happened; ``interface`` is the address that it is about."""

    what: Happened
    adapter: str
    interface: IPv4Interface | None = None


class Holding:
    """The adapter of a visit, known by its MAC, and the addresses that are to stay on it."""

    def __init__(self, adapter: Adapter) -> None:
        assert adapter.mac is not None
        self.mac: Mac = adapter.mac
        self.name = adapter.name
        self.held: list[IPv4Interface] = []
        self._is_here = True
        self._has_link = adapter.link
        self._lost_link = False
        self._came_back: set[IPv4Interface] = set()
        """Addresses that went with their adapter, and are not on it again yet."""
        self._missing: dict[IPv4Interface, float] = {}
        """Since when an address is not there that nobody is known to have taken off."""
        self._put_on: set[IPv4Interface] = set()
        """Addresses that were put on once after something took them off."""

    @property
    def is_ready(self) -> bool:
        """Whether its adapter is here and has a link."""
        return self._is_here and self._has_link

    def hold(self, interface: IPv4Interface) -> None:
        """An address was added, and is to stay."""
        if interface not in self.held:
            self.held.append(interface)

    def let_go(self, interface: IPv4Interface) -> None:
        """An address need not stay."""
        if interface in self.held:
            self.held.remove(interface)

    def lost_link(self) -> None:
        """The link was lost since the look before, and may be back already."""
        self._lost_link = True

    @property
    def is_waiting(self) -> bool:
        """Whether an address is missing, and it is not said yet who took it off."""
        return bool(self._missing)

    def look(
        self,
        adapters: Sequence[Adapter],
        written: Collection[IPv4Interface],
        now: float,
        ended: Collection[IPv4Interface] = (),
    ) -> tuple[Change, ...]:
        """The changes since the look before.

        ``written`` are the addresses that are still written down as to be taken off; restore does
        that, too, and takes it from the record then. ``ended`` are those whose lease is over.
        """
        adapter = found_again(adapters, self.mac, self.name)
        return tuple(self._changes(adapter, written, now, ended))

    def _changes(
        self,
        adapter: Adapter | None,
        written: Collection[IPv4Interface],
        now: float,
        ended: Collection[IPv4Interface],
    ) -> Iterator[Change]:
        if adapter is None:
            self._missing.clear()
            if self._is_here:
                self._is_here = self._has_link = self._lost_link = False
                self._came_back.update(self.held)
                yield Change(Happened.ADAPTER_GONE, self.name)
            return
        self.name = adapter.name
        if not self._is_here:
            self._is_here = True
            yield Change(Happened.ADAPTER_BACK, self.name)
        yield from self._link(adapter)
        for interface in tuple(self.held):
            if interface in adapter.interfaces:
                self._came_back.discard(interface)
                self._missing.pop(interface, None)
                continue
            # Who restores takes an address off first, and from the record then.
            since = self._missing.setdefault(interface, now)
            known = interface not in written or interface in ended or interface in self._came_back
            if known or now - since >= GRACE:
                del self._missing[interface]
                yield self._gone(interface, written, ended)

    def _link(self, adapter: Adapter) -> Iterator[Change]:
        was_lost, self._lost_link = self._lost_link, False
        if self._has_link and (was_lost or not adapter.link):
            self._has_link = False
            yield Change(Happened.LINK_LOST, self.name)
        if adapter.link and not self._has_link:
            self._has_link = True
            yield Change(Happened.LINK_BACK, self.name)

    def _gone(
        self,
        interface: IPv4Interface,
        written: Collection[IPv4Interface],
        ended: Collection[IPv4Interface],
    ) -> Change:
        if interface not in written:
            what = Happened.RESTORED
        elif interface in ended:
            what = Happened.LEASE_ENDED
        elif interface in self._came_back:
            self._came_back.discard(interface)
            return Change(Happened.WENT_WITH_ADAPTER, self.name, interface)
        elif interface not in self._put_on:
            self._put_on.add(interface)
            return Change(Happened.TAKEN_OFF, self.name, interface)
        else:
            what = Happened.TAKEN_OFF_AGAIN
        self.held.remove(interface)
        return Change(what, self.name, interface)
