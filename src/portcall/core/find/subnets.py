"""Which subnets are spoken on a wire, as far as the addresses heard there tell."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from ipaddress import IPv4Network

from portcall.core.address import SELF_ASSIGNED, assumed_network
from portcall.core.find.device import Device


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
            networks.add(
                (own or assumed_network(address), own is None and address not in SELF_ASSIGNED)
            )
        for key in networks:
            counts[key] = counts.get(key, 0) + 1
    return tuple(Spoken(network, counts[network, a], a) for network, a in sorted(counts))
