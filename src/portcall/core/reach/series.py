"""A series of questions to some targets, as a long watch leaves it behind."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field

from portcall.core.reach.echo_facts import Fact, Replied, Target


@dataclass(slots=True)
class Series:
    """One target's questions in the order of their times: seconds since any beginning, the answer's
    seconds or NaN where none came, and the packet's octets, 0 where it is not known.
    """

    target: Target
    at: list[float] = field(default_factory=list)
    seconds: list[float] = field(default_factory=list)
    octets: list[int] = field(default_factory=list)

    def add(self, at: float, seconds: float | None, octets: int) -> None:
        """One question more."""
        self.at.append(at)
        self.seconds.append(float("nan") if seconds is None else seconds)
        self.octets.append(octets)

    @property
    def lost(self) -> int:
        """How many were not answered."""
        return sum(each != each for each in self.seconds)


def series_of(targets: Sequence[Target], facts: Iterable[Fact]) -> tuple[Series, ...]:
    """The facts sorted by target and time."""
    made = {target: Series(target) for target in targets}
    for fact in sorted(facts, key=lambda fact: fact.at):
        seconds = fact.seconds if isinstance(fact, Replied) else None
        made[fact.target].add(fact.at, seconds, fact.octets)
    return tuple(made.values())
