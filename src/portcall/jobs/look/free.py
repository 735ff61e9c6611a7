"""The next numbers that nobody has, by asking on the wire."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from ipaddress import IPv4Address
from itertools import islice

from portcall.core.adapters.adapter import Adapter
from portcall.core.talk.pacer import Pace
from portcall.core.talk.probe import PROBE_TIME, AddressProbe, Taken
from portcall.core.trouble import NotPossibleHere
from portcall.host.adapter_watch import cable_of
from portcall.host.address_link import AddressLink
from portcall.host.pace import paced
from portcall.host.rights import require_asking
from portcall.jobs.look.holders import free_among
from portcall.jobs.telling import Tell

MOST = 64
"""How many numbers are looked for at most; and probed side by side."""
_SPARE = 2
"""Probed besides those that are wanted: one that is taken then costs no further wait."""
_MOST_PROBED = 1024


@dataclass(frozen=True, slots=True)
class Asking:
    """So many addresses are being asked for."""

    adapter: str
    first: IPv4Address
    last: IPv4Address

    def __str__(self) -> str:
        return f"asking on {self.adapter} who has {self.first} to {self.last}, {PROBE_TIME:.0f} s …"


@dataclass(frozen=True, slots=True)
class FreeNumbers:
    """Addresses that nobody answers for, and those that somebody has."""

    free: tuple[IPv4Address, ...]
    taken: tuple[Taken, ...]
    probed: int
    is_whole: bool
    """Whether there was an end to it before 1,024 were probed."""


async def free_numbers(
    adapter: Adapter, pace: Pace, choices: Iterator[IPv4Address], count: int, tell: Tell
) -> FreeNumbers:
    """The first ``count`` of some addresses that nobody answers for (RFC 5227 §2.1.1).

    Fewer where there are no more, or 1,024 were probed. Raises NotPossibleHere, also where the link
    was lost meanwhile.
    """
    require_asking()
    assert adapter.mac is not None
    found: list[IPv4Address] = []
    taken: list[Taken] = []
    probed, at_once = 0, min(count + _SPARE, MOST)
    async with cable_of(adapter.name) as cable:
        losses = cable.losses
        with paced(adapter.name, pace) as runner, runner.using(AddressLink(adapter.name)) as link:
            while len(found) < count and probed < _MOST_PROBED:
                batch = list(islice(choices, at_once))
                if not batch:
                    break
                tell(Asking(adapter.name, batch[0], batch[-1]))
                probes = [AddressProbe(adapter.mac, address) for address in batch]
                free = await free_among(runner, link, probes, taken.append)
                if cable.losses != losses or not cable.has_link:
                    raise NotPossibleHere(
                        f"{adapter.name} lost its link meanwhile: who is there was not heard",
                        "check the cable, and type this again",
                    )
                found += [address for address in batch if address in free]
                probed += len(batch)
                # Where many are taken in a row, a wider step gets past them sooner.
                at_once = min(at_once * 2, MOST)
    is_whole = len(found) >= count or probed < _MOST_PROBED
    return FreeNumbers(tuple(found[:count]), tuple(taken), probed, is_whole)
