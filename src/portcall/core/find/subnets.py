"""Which subnets are spoken on a wire, as far as the addresses heard there tell."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from ipaddress import IPv4Network

from portcall.core.find.device import Device
from portcall.core.plan.rows import ASSUMED_PREFIX


@dataclass(frozen=True, slots=True)
class Spoken:
    """A subnet, how many devices have an address in it, and whether its mask is an assumption."""

    network: IPv4Network
    devices: int
    assumed: bool


def spoken(devices: Iterable[Device], known: Sequence[IPv4Network]) -> tuple[Spoken, ...]:
    """The subnets of these devices, by the masks ``known``, else taken to be of 256 addresses."""
    counts: dict[tuple[IPv4Network, bool], int] = {}
    for device in devices:
        networks = set()
        for address in device.addresses:
            own = next((network for network in known if address in network), None)
            assumed = IPv4Network((address, ASSUMED_PREFIX), strict=False)
            networks.add((own or assumed, own is None))
        for key in networks:
            counts[key] = counts.get(key, 0) + 1
    return tuple(Spoken(network, counts[network, a], a) for network, a in sorted(counts))
