"""Settings of this computer that are likely to be in the way: their effect, and the remedy."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from ipaddress import IPv4Network

from portcall.core.adapters.adapter import Adapter, AdapterKind, Origin
from portcall.core.system_words import SWITCH_ON


@dataclass(frozen=True, slots=True)
class Workstation:
    """This computer's network, as far as it matters here."""

    adapters: tuple[Adapter, ...]
    name_servers: tuple[str, ...] = ()
    proxies: tuple[str, ...] = ()
    """Environment variables that send programs to a proxy."""
    paths: Mapping[IPv4Network, str | None] = field(default_factory=dict)
    """For each plant subnet: the adapter by which the kernel sends there now."""


@dataclass(frozen=True, slots=True)
class Obstacle:
    """Something in the way; ``adapter`` is None when it is the whole computer."""

    adapter: str | None
    text: str

    def __str__(self) -> str:
        return f"{self.adapter or 'this computer'}: {self.text}"


def obstacles(workstation: Workstation) -> tuple[Obstacle, ...]:
    """Everything found, adapter by adapter, then what is about the whole computer."""
    real = [a for a in workstation.adapters if a.kind is not AdapterKind.LOOPBACK]
    found: list[Obstacle] = []
    for adapter in real:
        texts = [*_of_one(adapter), *_overlaps(adapter, real)]
        found += [Obstacle(adapter.name, text) for text in dict.fromkeys(texts)]
    found += [Obstacle(name, text) for name, text in _tunnels(workstation)]
    if workstation.proxies:
        found.append(
            Obstacle(
                None,
                f"{', '.join(workstation.proxies)} sends web programs to a proxy, which does not "
                "see the plant; unset it, or name the devices in no_proxy",
            )
        )
    return tuple(found)


def _of_one(adapter: Adapter) -> Iterator[str]:
    if adapter.kind is AdapterKind.WIRED and not adapter.link:
        yield (
            "no link: nothing can be heard; check the cable, and that the other end has power"
            if adapter.up
            else "switched off: nothing can be heard; "
            + SWITCH_ON.here.format(adapter=adapter.name)
        )
    if adapter.link and adapter.full_duplex is False:
        yield (
            "half duplex: frames are lost under load; let both ends negotiate, or set both the same"
        )
    if adapter.addresses and all(a.origin is Origin.LINK_LOCAL for a in adapter.addresses):
        yield (
            "link-local address only: it asked for one by DHCP and nobody answered; "
            "portcall match puts it into the plant's subnet"
        )
    if adapter.kind is AdapterKind.WIRED and adapter.link and adapter.strict_about_sources:
        yield (
            "strict reverse-path filter: answers from devices outside its subnets are dropped "
            f"before a program sees them; sysctl -w net/ipv4/conf/{adapter.name}/rp_filter=2"
        )


def _overlaps(adapter: Adapter, real: Sequence[Adapter]) -> Iterator[str]:
    for other in real:
        for mine in adapter.interfaces:
            for its in other.interfaces:
                if other.name != adapter.name and mine.network.overlaps(its.network):
                    yield (
                        f"{mine.network} is on {other.name} too: packets may leave by the wrong "
                        "one; take the address off one of them, or disconnect it"
                    )


def _tunnels(workstation: Workstation) -> Iterator[tuple[str, str]]:
    kinds = {adapter.name: adapter.kind for adapter in workstation.adapters}
    for network, name in workstation.paths.items():
        if name is not None and kinds.get(name) is AdapterKind.TUNNEL:
            yield (
                name,
                f"this tunnel carries what is meant for {network}: devices there are not reached; "
                "switch the tunnel off, or have it leave that subnet out",
            )
