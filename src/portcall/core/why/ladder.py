"""The ladder of checks from the cable to the program, and what it ends in.

Each rung is settled by evidence alone: ``below`` judges what this computer is and has,
``neighbour`` who answers on the wire, ``answers`` what comes back.
"""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum
from ipaddress import IPv4Address


class Rung(StrEnum):
    """What is looked at, from the lowest; the names are part of ``why --json``."""

    LINK = "link"
    OWN_ADDRESS = "own address"
    WAY_OUT = "way out"
    NEIGHBOUR = "neighbour"
    WAY_BACK = "way back"
    ECHO = "echo"
    DOOR = "door"
    WORD = "word"
    PROGRAMS = "programs"


class Verdict(StrEnum):
    """How a rung stands; the names are part of ``why --json``."""

    HOLDS = "holds"
    BROKEN = "broken"
    NOT_ASKED = "not asked"


class Cause(StrEnum):
    """What can be broken; the names are part of ``why --json``, and of ``plant fault``."""

    NO_LINK = "no-link"
    FLAPPING = "flapping"
    NO_ADDRESS = "no-address"
    OTHER_SUBNET = "other-subnet"
    OWN_ADDRESS_TAKEN = "own-address-taken"
    ROUTE_ELSEWHERE = "route-elsewhere"
    FIXED_NEIGHBOUR = "fixed-neighbour"
    NO_ROUTER = "no-router"
    ROUTER_SILENT = "router-silent"
    STOPS_AT_HOP = "stops-at-hop"
    MASK = "mask"
    NOBODY_THERE = "nobody-there"
    ASKING = "asking"
    UNSET = "unset"
    MOVED = "moved"
    WRONG_DEVICE = "wrong-device"
    ADDRESS_SHARED = "address-shared"
    FIREWALL_OUT = "firewall-out"
    FIREWALL_IN = "firewall-in"
    RETURN_FILTERED = "return-filtered"
    PING_IGNORED = "ping-ignored"
    DOOR_CLOSED = "door-closed"
    DOOR_SILENT = "door-silent"
    SPEAKS_OTHERWISE = "speaks-otherwise"
    PROXY = "proxy"
    LOSSY = "lossy"
    LARGE_LOST = "large-lost"


@dataclass(frozen=True, slots=True)
class Finding:
    """What is broken, in one sentence, and what to do: lines to type, or what hands can do.

    Without a ``cause``, the evidence does not decide; ``between`` are the causes that are left.
    """

    cause: Cause | None
    sentence: str
    do: tuple[str, ...] = ()
    between: tuple[Cause, ...] = ()


@dataclass(frozen=True, slots=True)
class Step:
    """A rung that is settled: what was looked at and seen; ``finding`` when it does not hold.

    ``passable``: it does not hold, and what is above can be asked all the same.
    """

    rung: Rung
    verdict: Verdict
    evidence: str
    finding: Finding | None = None
    passable: bool = False


def holds(rung: Rung, evidence: str) -> Step:
    """A rung that holds."""
    return Step(rung, Verdict.HOLDS, evidence)


def not_asked(rung: Rung, evidence: str) -> Step:
    """A rung that nothing was seen of, and why."""
    return Step(rung, Verdict.NOT_ASKED, evidence)


def broken(
    rung: Rung,
    evidence: str,
    cause: Cause,
    sentence: str,
    *do: str,
    passable: bool = False,
) -> Step:
    """A rung that does not hold, and why."""
    return Step(rung, Verdict.BROKEN, evidence, Finding(cause, sentence, do), passable)


def undecided(
    rung: Rung,
    evidence: str,
    sentence: str,
    between: tuple[Cause, ...],
    *do: str,
    passable: bool = False,
) -> Step:
    """A rung that does not hold, of which the evidence does not tell why."""
    return Step(rung, Verdict.BROKEN, evidence, Finding(None, sentence, do, between), passable)


@dataclass(frozen=True, slots=True)
class Goal:
    """What is to be reached: an address, by the name it has, and a door when one is named."""

    address: IPv4Address
    name: str
    port: int | None = None
    port_name: str = ""

    @property
    def door_words(self) -> str:
        """The door as people call it."""
        return f"{self.port_name} (port {self.port})" if self.port_name else f"port {self.port}"

    @property
    def typed(self) -> str:
        """How it is named in a line to type."""
        return self.name if self.port is None else f"{self.name} {self.port}"

    def __str__(self) -> str:
        address = str(self.address)
        return address if self.name == address else f"{self.name} ({address})"


@dataclass(frozen=True, slots=True)
class Diagnosis:
    """The whole ladder. ``reachable`` when nothing that matters is broken."""

    goal: Goal
    adapter: str
    steps: tuple[Step, ...]

    @property
    def findings(self) -> tuple[Finding, ...]:
        """What is broken, the lowest first."""
        return tuple(step.finding for step in self.steps if step.finding is not None)

    @property
    def finding(self) -> Finding | None:
        """What is broken and matters most: the lowest of it."""
        return self.findings[0] if self.findings else None

    @property
    def reachable(self) -> bool:
        """Whether the device can be worked with: it answers, at the door that was named, too."""
        stopped = any(step.finding is not None and not step.passable for step in self.steps)
        return not stopped and any(
            step.rung is Rung.WAY_BACK and step.verdict is Verdict.HOLDS for step in self.steps
        )


RUNGS = tuple(Rung)
