"""What was seen of each rung. Values only; whoever looks fills them in."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field, replace
from ipaddress import IPv4Address, IPv4Network
from itertools import pairwise

from portcall.core.adapters.adapter import Adapter
from portcall.core.adapters.way_out import WayOut
from portcall.core.address import Mac
from portcall.core.find.device import Device
from portcall.core.plan.rows import Plan, PlannedDevice
from portcall.core.talk.door_knock import DoorState


@dataclass(frozen=True, slots=True)
class LinkSeen:
    """An adapter's link: whether it has one, how often it was lost while it was watched, and since
    the adapter is there; errors in what it received.
    """

    adapter: Adapter
    losses: int = 0
    watched: float = 0.0
    losses_ever: int | None = None
    errors: int = 0
    is_there: bool = True
    """Whether the computer still has an adapter of this name."""


@dataclass(frozen=True, slots=True)
class WireSeen:
    """Who answered ARP for which address; None where that is not known.

    ``heard`` are subnets that were spoken meanwhile, with how many devices in each. ``for_all`` are
    MACs that answer for addresses that nobody has, too (proxy ARP, RFC 1027): their answers tell
    nothing, and are left out of ``answers``.
    """

    answers: Mapping[IPv4Address, Sequence[Mac]] | None
    heard: Mapping[IPv4Network, int] = field(default_factory=dict)
    for_all: Sequence[Mac] = ()
    by_kernel: bool = False
    """It is what the kernel found when it had to send: one answer, and to its own questions."""

    def macs(self, address: IPv4Address) -> tuple[Mac, ...]:
        """The MACs that answered for an address."""
        return tuple((self.answers or {}).get(address, ()))

    def without_those_for_all(self, decoys: Collection[IPv4Address]) -> WireSeen:
        """What is left when those are left out who answer for every one of some decoys.

        One decoy may be a device's address by chance; two are not.
        """
        if self.answers is None or len(decoys) < 2:
            return self
        answered = [set(self.macs(decoy)) for decoy in decoys]
        for_all = set.intersection(*answered)
        told = {
            address: [mac for mac in macs if mac not in for_all]
            for address, macs in self.answers.items()
            if address not in decoys
        }
        return replace(self, answers=told, for_all=tuple(sorted(for_all)))


@dataclass(frozen=True, slots=True)
class Sought:
    """A look around, after nobody answered for an address: what else is there; None: not asked."""

    devices: Sequence[Device] | None
    seconds: float = 0.0


@dataclass(frozen=True, slots=True)
class Situation:
    """What the rungs above the link are judged by: this computer, the plan, the goal's row."""

    adapter: Adapter
    adapters: Sequence[Adapter]
    way: WayOut
    plan: Plan
    row: PlannedDevice | None
    own_prefix: IPv4Network | None = None


@dataclass(slots=True)
class Trial:
    """What came of first echoes and attempts at doors, at the sockets and at the link.

    ``seen_out`` and ``seen_in`` count frames to and from the goal at the adapter, None without
    privilege; ``elsewhere`` are adapters that its answers came in by instead. ``errors`` are ICMP
    errors: who says what.
    """

    echoes: int = 0
    answered: int = 0
    seconds: float = 0.0
    """How long the first answer took."""
    refused: str | None = None
    no_echoes: str = ""
    """Why no echo can be sent from here."""
    doors: dict[int, DoorState] = field(default_factory=dict)
    errors: list[tuple[IPv4Address, str]] = field(default_factory=list)
    seen_out: int | None = None
    seen_in: int | None = None
    echoes_in: int = 0
    ports_out: set[int] = field(default_factory=set)
    ports_in: set[int] = field(default_factory=set)
    elsewhere: dict[str, int] = field(default_factory=dict)
    strict: frozenset[str] = frozenset()

    @property
    def settled_doors(self) -> tuple[int, ...]:
        """Doors that were answered, opened or refused."""
        return tuple(port for port, s in self.doors.items() if s is not DoorState.SILENT)

    @property
    def open_doors(self) -> tuple[int, ...]:
        """Doors that opened."""
        return tuple(port for port, state in self.doors.items() if state is DoorState.OPEN)

    @property
    def came_back(self) -> bool:
        """Whether a socket here was answered at all."""
        return self.answered > 0 or bool(self.settled_doors)


@dataclass(frozen=True, slots=True)
class FromInside:
    """What a device answered to an address borrowed nearer to its own; None: not tried."""

    address: IPv4Address | None = None
    answered: bool = False
    mask: IPv4Address | None = None
    by: str = ""
    gateway: IPv4Address | None = None


@dataclass(frozen=True, slots=True)
class EchoSeen:
    """A series of small echoes, and large ones: the largest IPv4 packet that came back."""

    sent: int
    received: int
    times: Sequence[float]
    ttl: int | None
    large_sent: int = 0
    large_received: int = 0
    large: int = 0
    passed: int | None = None
    too_big: tuple[IPv4Address, str] | None = None
    slow_sent: int = 0
    """Echoes that were sent one a second, since those before came back as if they were counted."""
    slow_received: int = 0

    @property
    def is_limited(self) -> bool:
        """Whether the device answers only so many a second, and all that are sent slowly."""
        return 0 < self.slow_sent == self.slow_received


def came_back_regularly(numbers: Sequence[int], sent: int) -> bool:
    """Whether one of so many echoes came back each time, as from a device that counts them.

    ``numbers`` are those that did, of ``sent``, from 0. What a bad connection loses is lost by
    chance: gaps between what comes back differ.
    """
    if len(numbers) > sent * _MOST_OF_ALL:
        return False
    ordered = sorted(numbers)
    gaps = [later - earlier for earlier, later in pairwise(ordered)]
    return not gaps or max(gaps) - min(gaps) <= 1


_MOST_OF_ALL = 0.7
"""The share of echoes that a device which limits them answers at most, when many are sent."""


@dataclass(frozen=True, slots=True)
class WordSeen:
    """What was said behind an open door. ``identity`` is what its protocol's exchange gave, and
    ``mask`` the mask that the device says it has.

    ``raw``: what came that is not that protocol. ``silent`` seconds: nothing came.
    """

    port: int
    name: str
    known: bool
    identity: str = ""
    raw: bytes = b""
    closed: bool = False
    silent: float = 0.0
    mask: str = ""
