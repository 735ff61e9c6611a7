"""The evidence for each rung, as values that the job fills in."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field, replace
from ipaddress import IPv4Address, IPv4Interface, IPv4Network
from itertools import pairwise

from portcall.core.adapters.adapter import Adapter
from portcall.core.adapters.way_out import WayOut
from portcall.core.address import AddressRange, Mac
from portcall.core.assign.lookout import Offer
from portcall.core.find.device import Device
from portcall.core.find.sighting import Said
from portcall.core.plan.rows import Plan, PlannedDevice
from portcall.core.reach.echo_facts import Undelivered
from portcall.core.talk.door_knock import DoorState
from portcall.core.wire.dhcp import prefix_length


@dataclass(frozen=True, slots=True)
class LinkSeen:
    """An adapter's link: whether it has one, how often it was lost while it was watched, and since
    the adapter is there; errors in what it received.
    """

    adapter: Adapter
    losses: int = 0
    watched: float = 0.0
    losses_ever: int = 0
    errors: int = 0
    is_there: bool = True
    """Whether the computer still has an adapter of this name."""


@dataclass(frozen=True, slots=True)
class WireSeen:
    """The MACs that answered ARP for each address; None where that is not known.

    ``heard`` are subnets that were spoken meanwhile, with how many devices in each. ``for_all`` are
    MACs that answer for addresses that nobody has, too (proxy ARP, RFC 1027): their answers tell
    nothing, and are left out of ``answers``.
    """

    answers: Mapping[IPv4Address, Sequence[Mac]] | None
    heard: Mapping[IPv4Network, int] = field(default_factory=dict)
    for_all: Sequence[Mac] = ()
    by_kernel: bool = False
    """It is what the kernel found when it had to send: one answer, and to its own questions."""
    learnt_now: frozenset[IPv4Address] = frozenset()
    """Whom the kernel did not know before, and asked for just now."""
    overheard: Mapping[IPv4Address, Mac] = field(default_factory=dict)
    """Who else spoke ARP meanwhile."""
    alone: Mapping[Mac, Mac] = field(default_factory=dict)
    """Who answered an echo that was sent to one MAC alone."""
    offers: Sequence[Offer] = ()
    """What DHCP servers offered this computer meanwhile, where it was asked for."""
    one_serial: bool = False
    """Whether each of the MACs that answer says the same product and serial number."""

    def hands_out(self, address: IPv4Address) -> IPv4Address | None:
        """A server that hands out addresses of the subnet that an address is in."""
        inside = (o.server for o in self.offers if o.network is not None and address in o.network)
        return next(inside, None)

    def is_remembered(self, address: IPv4Address) -> bool:
        """Whether an answer may be some minutes old, as the kernel keeps it."""
        return self.by_kernel and address not in self.learnt_now

    def each_answers_alone(self, macs: Sequence[Mac]) -> bool:
        """Whether each of these MACs answered for itself what it alone was sent.

        One device with two plugs on a wire answers by one of them, whichever was asked.
        """
        return all(self.alone.get(mac) == mac for mac in macs)

    def is_one_device(self, macs: Sequence[Mac]) -> bool:
        """Whether these are plugs of one device: one answered for several, or all say one serial
        number."""
        answered = [self.alone[mac] for mac in macs if mac in self.alone]
        return self.one_serial or (len(answered) > 1 and len(set(answered)) == 1)

    def answers_for_others(self, mac: Mac, address: IPv4Address) -> bool:
        """Whether a MAC was heard at another address, too: a router answers for others."""
        at = {a for a, macs in (self.answers or {}).items() if mac in macs}
        at |= {a for a, heard in self.overheard.items() if heard == mac}
        return bool(at - {address})

    def macs(self, address: IPv4Address) -> tuple[Mac, ...]:
        """The MACs that answered for an address."""
        return tuple((self.answers or {}).get(address, ()))

    def without_those_for_all(self, decoys: Collection[IPv4Address]) -> WireSeen:
        """The same without the MACs that answer for every one of some decoys.

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
    """A look around, after nobody answered for an address: what else is there; None: not asked.

    ``too_large`` are subnets of so many addresses that only the planned ones were asked.
    """

    devices: Sequence[Device] | None
    seconds: float = 0.0
    too_large: Sequence[AddressRange] = ()


@dataclass(frozen=True, slots=True)
class Situation:
    """The ground on which the rungs above the link are judged: this computer and the plan."""

    adapter: Adapter
    adapters: Sequence[Adapter]
    way: WayOut
    plan: Plan
    row: PlannedDevice | None
    own_prefix: IPv4Network | None = None
    fixed: Mapping[IPv4Address, Mac] = field(default_factory=dict)
    """What somebody wrote into this computer's own ARP table for good."""
    other_way_answers: bool | None = None
    """Whether it answers by the adapter that the kernel would use instead; None: not asked."""

    @property
    def strict(self) -> frozenset[str]:
        """The adapters that let no address in that belongs elsewhere."""
        return frozenset(each.name for each in self.adapters if each.strict_about_sources)

    def first(self, goal: IPv4Address) -> IPv4Address:
        """The next receiver on this wire of packets for the goal: the router, or the goal."""
        by_it = self.way.adapter == self.adapter.name
        return self.way.router if by_it and self.way.router is not None else goal

    def believed(self, errors: Sequence[Undelivered], goal: IPv4Address) -> Undelivered | None:
        """The last error of somebody who can know.

        Between two on one wire nobody passes anything on, and of those on this wire the router
        does.
        """
        router = self.way.router

        def can_know(who: IPv4Address) -> bool:
            if who == goal:
                return True
            return router is not None and (who == router or self.adapter.on_subnet_of(who) is None)

        return next((error for error in reversed(errors) if can_know(error.by)), None)


NOBODY = "host unreachable"
"""What a router says that finds nobody, in the words of ``core.wire.icmp``."""


@dataclass(slots=True)
class Trial:
    """The results of first echoes and attempts at doors, at the sockets and at the link.

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
    said: dict[int, list[Said]] = field(default_factory=dict)
    """What was said behind doors of known protocols, when they opened."""
    errors: list[Undelivered] = field(default_factory=list)
    stands_there: IPv4Address | None = None
    """The router that was found to have an address in the goal's subnet."""
    neighbour_known: bool = False
    """Whether the kernel has a MAC to send to."""
    forbidden: set[int] = field(default_factory=set)
    """Doors whose attempts ended in an error, and no refusal came from the device."""
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
    """The answers of a device to an address borrowed nearer to its own; None: not tried."""

    address: IPv4Address | None = None
    answered: bool = False
    mask: IPv4Address | None = None
    by: str = ""
    gateway: IPv4Address | None = None

    @property
    def can_be_set(self) -> bool:
        """Whether it says its mask by a protocol by which it can be set, too."""
        return self.by in ("CIP", "DCP")

    def leaves_out(self, source: IPv4Address | None, goal: IPv4Address) -> bool:
        """Whether the device cannot answer this computer, by its own mask, as it says itself.

        That it answers somebody nearer to it does not tell: a list of addresses that it lets in, an
        old MAC of this computer in its table, or a gateway that is off, look the same.
        """
        # A device may report a mask that is none; that proves nothing.
        prefix = prefix_length(self.mask) if self.mask is not None else None
        if prefix is None or source is None:
            return False
        return source not in IPv4Interface((goal, prefix)).network


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
    mtu_told: Undelivered | None = None
    """Who says that a packet was too long for the way, and how long it may be (RFC 1191 §4)."""
    full_taken: bool | None = None
    """Whether a full segment by TCP was acknowledged; None: not tried."""
    by_chance: bool = False
    """Whether echoes were lost as by chance, and not in a pattern."""
    slow_sent: int = 0
    """Echoes that were sent one a second, since those before came back as if they were counted."""
    slow_received: int = 0

    @property
    def is_short_only(self) -> bool:
        """Whether none of full length came back, and nobody says that they are too long."""
        return self.large_sent > 0 == self.large_received and self.mtu_told is None

    @property
    def is_limited(self) -> bool:
        """Whether the device answers only so many a second, and all that are sent slowly."""
        return 0 < self.slow_sent == self.slow_received


def lost_by_chance(numbers: Sequence[int], sent: int) -> bool:
    """Whether losses lie as chance would have them, by the number of runs (Wald and Wolfowitz).

    ``numbers`` are the echoes that came back, of ``sent``, from 0. A device that answers one of so
    many, or the first of each second, leaves fewer runs or more than chance does; what it answers
    after the first few comes at even distances.
    """
    came = set(numbers)
    marks = [number in came for number in range(sent)]
    first_lost = marks.index(False) if False in marks else sent
    after = [number for number in sorted(came) if number > first_lost]
    gaps = [later - earlier for earlier, later in pairwise(after)]
    if len(after) <= (sent - first_lost) * _MOST_OF_ALL and (
        not gaps or max(gaps) - min(gaps) <= 1
    ):
        return False
    back, lost = len(came), sent - len(came)
    if not back or not lost:
        return False
    runs = 1 + sum(one != other for one, other in pairwise(marks))
    mean = 2 * back * lost / sent + 1
    variance = (mean - 1) * (mean - 2) / (sent - 1)
    return variance > 0 and abs(runs - mean) <= _OFTEN_ENOUGH * variance**0.5


_OFTEN_ENOUGH = 2.5
"""Standard deviations: of a hundred bad connections one looks as if it had a pattern."""

_MOST_OF_ALL = 0.7
"""The share of echoes that a device which limits them answers at most, when many are sent."""

FEW_LOST = 2
"""Echoes that have to be lost before it is said: one may be lost anywhere."""


@dataclass(frozen=True, slots=True)
class WordSeen:
    """The words behind an open door. ``identity`` is the result of its protocol's exchange, and
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
    mask: IPv4Address | None = None
