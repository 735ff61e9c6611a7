"""The workstation's adapters as values, which the operating system fills, and which one to use."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum
from ipaddress import IPv4Address, IPv4Interface

from portcall.core.address import Mac
from portcall.core.trouble import NotPossibleHere


class AdapterKind(StrEnum):
    """What an adapter is to the person holding the cable."""

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
    default_gateway: IPv4Address | None = None
    has_default_route: bool = False

    @property
    def interfaces(self) -> tuple[IPv4Interface, ...]:
        """The addresses in force with their masks."""
        return tuple(address.interface for address in self.addresses)

    def on_subnet_of(self, address: IPv4Address) -> IPv4Interface | None:
        """The own address whose subnet holds ``address``, or None."""
        return next((own for own in self.interfaces if address in own.network), None)


def warnings(adapters: Sequence[Adapter]) -> dict[str, tuple[str, ...]]:
    """What is likely to get in the way, by adapter name: what it causes and what to do."""
    found: dict[str, tuple[str, ...]] = {}
    real = [a for a in adapters if a.kind is not AdapterKind.LOOPBACK]
    for adapter in real:
        lines: list[str] = []
        if adapter.kind is AdapterKind.WIRED and not adapter.link:
            lines.append("no link: nothing can be heard; check the cable and the other end's power")
        if adapter.addresses and all(a.origin is Origin.LINK_LOCAL for a in adapter.addresses):
            lines.append("link-local address only: DHCP asked and nobody answered")
        for other in real:
            if other.name == adapter.name:
                continue
            for mine in adapter.interfaces:
                for its in other.interfaces:
                    if mine.network.overlaps(its.network):
                        lines.append(
                            f"{mine.network} is on {other.name} too: packets may leave by the "
                            "wrong one; take the address off one of them"
                        )
        if lines:
            found[adapter.name] = tuple(dict.fromkeys(lines))
    return found


def choose(adapters: Sequence[Adapter], name: str | None) -> Adapter:
    """The adapter to use: the named one, or the only wired one with link and no default route.

    Never guesses between two. Raises NotPossibleHere with the list when none or several fit, when
    the named one does not exist, or when it has no link.
    """
    listed = ", ".join(_described(a) for a in adapters if a.kind is not AdapterKind.LOOPBACK)
    if name is not None:
        named = next((a for a in adapters if a.name == name), None)
        if named is None:
            raise NotPossibleHere(f"no adapter is called {name!r}; here are: {listed or 'none'}")
        if named.mac is None:
            raise NotPossibleHere(
                f"{name} is a {named.kind}, with no Ethernet in it; name the adapter that has the "
                f"plant's cable. Here are: {listed}"
            )
        if not named.up:
            raise NotPossibleHere(
                f"{name} is switched off in this computer's settings; switch it on "
                f"(ip link set {name} up) and try again"
            )
        if not named.link:
            raise NotPossibleHere(
                f"{name} has no link: check that the cable is in, at both ends, and that the "
                "device has power"
            )
        return named
    fitting = [
        a
        for a in adapters
        if a.kind is AdapterKind.WIRED and a.link and not a.has_default_route and a.mac is not None
    ]
    if len(fitting) == 1:
        return fitting[0]
    if fitting:
        names = " or ".join(a.name for a in fitting)
        raise NotPossibleHere(
            f"{names}: which one has the plant's cable? Name it with --adapter. Here are: {listed}"
        )
    raise NotPossibleHere(
        "no wired adapter with link that is free of a default route; plug in the plant's cable, "
        f"or name an adapter with --adapter. Here are: {listed or 'none'}"
    )


def _described(adapter: Adapter) -> str:
    facts = [str(adapter.kind), "link" if adapter.link else "no link"]
    if adapter.has_default_route:
        facts.append("default route")
    return f"{adapter.name} ({', '.join(facts)})"
