"""The workstation's adapters as values, and the choice of the one to use.

The operating system fills the values in (``host.adapters``).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum
from ipaddress import IPv4Address, IPv4Interface, IPv4Network

from portcall.core.address import Mac
from portcall.core.system_words import SWITCH_ON
from portcall.core.trouble import NotPossibleHere


class AdapterKind(StrEnum):
    """The kind of an adapter, as the person with the cable sees it."""

    WIRED = "wired"
    WIRELESS = "wireless"
    VIRTUAL = "virtual"
    TUNNEL = "tunnel"
    LOOPBACK = "loopback"


class Origin(StrEnum):
    """Where an address came from, as far as the operating system can tell."""

    STATIC = "static"
    DYNAMIC = "DHCP"
    LINK_LOCAL = "link-local"
    MATCHED = "matched"


@dataclass(frozen=True, slots=True)
class AdapterAddress:
    """An address in force on an adapter."""

    interface: IPv4Interface
    origin: Origin
    seconds_left: int | None = None
    """Until the kernel takes it off; None when it stays."""


@dataclass(frozen=True, slots=True)
class LinkCounters:
    """The operating system's counters of an adapter; ``losses`` of its link, None where it does not
    tell."""

    losses: int | None
    errors: int


@dataclass(frozen=True, slots=True)
class Route:
    """A route by way of an adapter; ``of_subnet`` when the kernel made it for an own address."""

    destination: IPv4Network
    adapter_index: int
    gateway: IPv4Address | None = None
    of_subnet: bool = False


@dataclass(frozen=True, slots=True)
class Adapter:
    """One network interface of the workstation, as it is now."""

    name: str
    index: int
    kind: AdapterKind
    mac: Mac | None
    up: bool
    link: bool
    mtu: int
    speed_mbps: int | None = None
    full_duplex: bool | None = None
    addresses: tuple[AdapterAddress, ...] = ()
    routes: tuple[Route, ...] = ()
    strict_about_sources: bool = False
    """Strict reverse-path filtering (RFC 3704 §2.2) is on."""
    guid: str | None = None
    """By which the operating system knows it whatever it is called; None where it has none."""

    @property
    def interfaces(self) -> tuple[IPv4Interface, ...]:
        """The addresses in force with their masks."""
        return tuple(address.interface for address in self.addresses)

    @property
    def default_route(self) -> Route | None:
        """Its route to everywhere, or None."""
        return next((route for route in self.routes if route.destination.prefixlen == 0), None)

    @property
    def other_routes(self) -> tuple[Route, ...]:
        """Routes somebody made: to everywhere, or to networks behind a gateway."""
        return tuple(route for route in self.routes if not route.of_subnet)

    def leads_to(self, address: IPv4Address) -> Route | None:
        """The narrowest route that somebody made for an address by way of this adapter, or None.

        A default route is made for nobody in particular.
        """
        fitting = [
            route
            for route in self.other_routes
            if route.destination.prefixlen and address in route.destination
        ]
        return max(fitting, key=lambda route: route.destination.prefixlen, default=None)

    def any_route_to(self, address: IPv4Address) -> Route | None:
        """The narrowest route for an address by way of this adapter, a default route too."""
        fitting = [r for r in self.routes if not r.of_subnet and address in r.destination]
        return max(fitting, key=lambda route: route.destination.prefixlen, default=None)

    @property
    def speed_words(self) -> str | None:
        """The negotiated speed as people say it; None when the driver does not tell.

        Full duplex is normal and is not mentioned. Half duplex points to a cable or to a setting.
        """
        speed = self.speed_mbps
        if speed is None:
            return None
        shown = f"{speed / 1000:g} Gbit/s" if speed >= 1000 else f"{speed} Mbit/s"
        return f"{shown} half duplex" if self.full_duplex is False else shown

    def on_subnet_of(self, address: IPv4Address) -> IPv4Interface | None:
        """The own address whose subnet holds ``address``, or None."""
        return next((own for own in self.interfaces if address in own.network), None)


def choose(adapters: Sequence[Adapter], name: str | None) -> Adapter:
    """The adapter to use: the named one, or the only wired one with link and no default route.

    Of several such, the only one that nobody made a route for, to a network behind a router.

    Never guesses between two. Raises NotPossibleHere with the list when none or several fit, when
    the named one does not exist, or when it has no link.
    """
    listed = ", ".join(_described(a) for a in adapters if a.kind is not AdapterKind.LOOPBACK)
    if name is not None:
        named = next((a for a in adapters if a.name == name), None)
        if named is None:
            raise NotPossibleHere(f"no adapter is called {name!r}", f"here are: {listed or 'none'}")
        if named.mac is None:
            raise NotPossibleHere(
                f"{name} is a {named.kind}, with no Ethernet in it",
                f"name the adapter that has the plant's cable. Here are: {listed}",
            )
        if not named.up:
            raise NotPossibleHere(
                f"{name} is switched off in this computer's settings",
                f"switch it on ({SWITCH_ON.here.format(adapter=name)}) and try again",
            )
        if not named.link:
            raise NotPossibleHere(
                f"{name} has no link: check that the cable is in, at both ends, and that the "
                "device has power"
            )
        return named
    fitting = [a for a in plugged(adapters) if a.default_route is None]
    if len(fitting) > 1:
        fitting = [a for a in fitting if not a.other_routes] or fitting
    if len(fitting) == 1:
        return fitting[0]
    if fitting:
        names = " or ".join(a.name for a in fitting)
        raise NotPossibleHere(
            f"{names}: which one has the plant's cable? Name it with --adapter. Here are: {listed}"
        )
    raise NotPossibleHere(
        "no wired adapter has a link and no default route",
        "plug in the plant's cable, or name an adapter with --adapter. Here are: "
        f"{listed or 'none'}",
    )


def found_again(
    adapters: Sequence[Adapter], mac: Mac, name: str, guid: str | None = None
) -> Adapter | None:
    """An adapter by its MAC, since it may have come back under another name; None when it is gone.

    Of several with this MAC, the one that the operating system knows by ``guid``; else the one of
    this name.
    """
    same = [each for each in adapters if each.mac == mac]
    known = next((each for each in same if guid is not None and each.guid == guid), None)
    if known is not None:
        return known
    return next((each for each in same if each.name == name), same[0] if same else None)


def plugged(adapters: Sequence[Adapter]) -> list[Adapter]:
    """The wired adapters that have a link: the cables that are in."""
    wired = [each for each in adapters if each.kind is AdapterKind.WIRED and each.mac is not None]
    return [each for each in wired if each.link]


def choose_for(
    adapters: Sequence[Adapter], name: str | None, target: IPv4Address, leaves_by: str | None
) -> Adapter:
    """The adapter by which a target is meant to be reached, also one that has no link now.

    The named one; else the one in the target's subnet, or with a route of its own to it; else the
    only wired one that no route needs; else that by which the kernel sends there, ``leaves_by``.
    Raises NotPossibleHere as ``choose`` does.
    """
    if name is not None:
        named = next((a for a in adapters if a.name == name and a.mac is not None), None)
        return named or choose(adapters, name)
    real = [a for a in adapters if a.mac is not None and a.kind in _REAL]
    inside = [a for a in real if a.on_subnet_of(target)]
    routed = [a for a in real if a.leads_to(target)]
    wired = [a for a in real if a.kind is AdapterKind.WIRED and a.default_route is None]
    unused = [a for a in wired if a.link and not a.other_routes]
    for fitting in (inside, routed, unused, wired):
        if len(fitting) == 1:
            return fitting[0]
    by_kernel = next((a for a in real if a.name == leaves_by), None)
    return by_kernel or choose(adapters, None)


_REAL = (AdapterKind.WIRED, AdapterKind.WIRELESS, AdapterKind.VIRTUAL)


def _described(adapter: Adapter) -> str:
    facts = [str(adapter.kind), "link" if adapter.link else "no link"]
    if adapter.default_route:
        facts.append("default route")
    elif adapter.other_routes:
        facts.append(f"route to {adapter.other_routes[0].destination}")
    return f"{adapter.name} ({', '.join(facts)})"
