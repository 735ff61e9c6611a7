"""The way that this computer itself would take to a device, where the adapter has none to it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from ipaddress import IPv4Address

from portcall.core.adapters.adapter import Adapter
from portcall.core.talk.pacer import Pace
from portcall.host.adapters import way_out
from portcall.host.pace import paced
from portcall.jobs.look.echoed import answers_by


@dataclass(frozen=True, slots=True)
class AnotherWay:
    """An adapter by which the kernel would send, and whether the device answers by it."""

    adapter: Adapter
    answers: bool
    address: IPv4Address

    def __str__(self) -> str:
        return (
            f"using {self.adapter.name}: by it this computer's routes lead to {self.address}, and "
            "it answers there"
        )


async def another_way(
    adapter: Adapter, adapters: Sequence[Adapter], address: IPv4Address, pace: Pace
) -> AnotherWay | None:
    """None where the adapter has a way there itself, or the kernel knows no other."""
    by = way_out(address).adapter
    other = next((each for each in adapters if each.name == by), None)
    has_way = adapter.on_subnet_of(address) or adapter.any_route_to(address)
    if has_way or other is None or by == adapter.name or other.mac is None:
        return None
    with paced(other.name, pace) as runner:
        return AnotherWay(other, await answers_by(runner, other.name, address), address)
