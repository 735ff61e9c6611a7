"""The ladder of checks from the cable to the program, and what it ends in.

Each rung is settled by evidence alone: ``below`` judges what this computer is and has,
``neighbour`` who answers on the wire, ``way_back``, ``echo_series`` and ``open_doors`` what comes
back.
"""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum
from ipaddress import IPv4Address
from typing import TypeAlias

from portcall.core.finding import Finding, Line, Name
from portcall.core.part_path import PartPath


class Rung(StrEnum):
    """The rungs, from the lowest; the names are part of ``why --json``."""

    LINK = "link"
    OWN_ADDRESS = "own address"
    WAY_OUT = "way out"
    NEIGHBOUR = "neighbour"
    WAY_BACK = "way back"
    ECHO = "echo"
    DOOR = "door"
    WORD = "word"
    PART = "part"
    PROGRAMS = "programs"


class Verdict(StrEnum):
    """How a rung stands; the names are part of ``why --json``."""

    HOLDS = "holds"
    BROKEN = "broken"
    NOT_ASKED = "not asked"


class Cause(StrEnum):
    """The causes; the names are part of ``why --json``, and of ``plant fault``."""

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
    UNIT_SILENT = "unit-silent"
    LINE_SILENT = "line-silent"
    SLOT_EMPTY = "slot-empty"
    PORT_NO_LINK = "port-no-link"


Advice: TypeAlias = Line | Finding
"""What to do: a line to type, or what hands can do."""


@dataclass(frozen=True, slots=True)
class Conclusion:
    """A cause that was concluded, and the advice about it.

    Without a ``cause``, the evidence does not decide; ``between`` are the causes that are left.
    """

    cause: Cause | None
    finding: Finding
    do: tuple[Advice, ...] = ()
    between: tuple[Cause, ...] = ()
    or_else: tuple[str, ...] = ()
    """What could be so instead, where the cause was named and its neighbours are not excluded."""
    is_proved: bool = True
    """Whether all was seen that says so."""

    @property
    def sentence(self) -> str:
        """The conclusion in a whole sentence."""
        also = "".join(f"; or {each}" for each in self.or_else)
        lacking = "" if self.is_proved or also else ", and not all was seen that says so"
        return f"{self.finding.sentence}{also}{lacking}."

    @property
    def line(self) -> Line | None:
        """The first line of this tool that it says to type, alone."""
        return next((each for each in self.do if isinstance(each, Line)), None)


@dataclass(frozen=True, slots=True)
class Step:
    """A rung that is settled: what was looked at and seen; ``conclusion`` when it is broken.

    ``passable``: broken, but the rungs above can still be tested.
    """

    rung: Rung
    verdict: Verdict
    seen: Finding | None
    conclusion: Conclusion | None = None
    passable: bool = False

    @property
    def evidence(self) -> str:
        """The evidence in words."""
        return str(self.seen) if self.seen is not None else ""


def holds(rung: Rung, seen: Finding) -> Step:
    """A rung that holds."""
    return Step(rung, Verdict.HOLDS, seen)


def not_asked(rung: Rung, seen: Finding | None = None) -> Step:
    """A rung that nothing was seen of, and why."""
    return Step(rung, Verdict.NOT_ASKED, seen)


def broken(
    rung: Rung,
    seen: Finding,
    cause: Cause,
    concluded: Finding,
    *do: Advice,
    passable: bool = False,
) -> Step:
    """A broken rung, and why."""
    return Step(rung, Verdict.BROKEN, seen, Conclusion(cause, concluded, do), passable)


def undecided(
    rung: Rung,
    seen: Finding,
    concluded: Finding,
    between: tuple[Cause, ...],
    *do: Advice,
    passable: bool = False,
) -> Step:
    """A broken rung, of which the evidence does not tell why."""
    return Step(rung, Verdict.BROKEN, seen, Conclusion(None, concluded, do, between), passable)


_NO_NAME = Name("")


@dataclass(frozen=True, slots=True)
class Goal:
    """The goal of a climb: an address, by the name it has, and a door when one is named.

    With a ``part``, the device and the door are those that lead to it; ``part_name`` is its own.
    """

    address: IPv4Address
    name: Name
    port: int | None = None
    door_name: str = ""
    part: PartPath | None = None
    part_name: Name = _NO_NAME

    @property
    def door_words(self) -> str:
        """The door as people call it."""
        return f"{self.door_name} (port {self.port})" if self.door_name else f"port {self.port}"

    @property
    def typed(self) -> tuple[Name | int, ...]:
        """How it is named in a line to type."""
        if self.part is not None:
            return (self.part_name,)
        return (self.name,) if self.port is None else (self.name, self.port)

    def __str__(self) -> str:
        address = str(self.address)
        if self.part is not None:
            return f"{self.part_name} ({self.part} of {self.name}, {address})"
        return address if self.name == address else f"{self.name} ({address})"


@dataclass(frozen=True, slots=True)
class Diagnosis:
    """The whole ladder. ``reachable`` when nothing that matters is broken."""

    goal: Goal
    adapter: str
    steps: tuple[Step, ...]

    @property
    def conclusions(self) -> tuple[Conclusion, ...]:
        """The conclusions, that of the lowest rung first."""
        return tuple(step.conclusion for step in self.steps if step.conclusion is not None)

    @property
    def conclusion(self) -> Conclusion | None:
        """The conclusion that matters most: that of the lowest broken rung."""
        return self.conclusions[0] if self.conclusions else None

    @property
    def reachable(self) -> bool:
        """Whether the device can be worked with: it answers, at the door that was named, too."""
        stopped = any(step.conclusion is not None and not step.passable for step in self.steps)
        return not stopped and any(
            step.rung is Rung.WAY_BACK and step.verdict is Verdict.HOLDS for step in self.steps
        )


def rungs_to(goal: Goal) -> tuple[Rung, ...]:
    """The rungs of a climb: that of a part belongs to one alone that has a part for its goal."""
    return tuple(rung for rung in Rung if rung is not Rung.PART or goal.part is not None)
