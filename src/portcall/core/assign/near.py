"""Near misses: a MAC that asks and is almost a planned one. A mistyped digit costs an hour."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass

from portcall.core.address import Mac
from portcall.core.plan import Plan, PlannedDevice


@dataclass(frozen=True, slots=True)
class NearMiss:
    """The planned row that a MAC nearly is, and how it differs."""

    row: PlannedDevice
    how: str

    def __str__(self) -> str:
        return f"{self.how} {self.row.name} in the plan ({self.row.mac})"


def difference(one: Mac, other: Mac) -> str | None:
    """How two MACs differ, when it is the kind of slip people make in copying a label."""
    a, b = one.octets.hex(), other.octets.hex()
    places = [place for place in range(12) if a[place] != b[place]]
    if len(places) == 1:
        return "differs in one digit from"
    if len(places) == 2:
        first, second = places
        if a[first] == b[second] and a[second] == b[first]:
            return "has two digits swapped against"
    if sorted(one.octets) == sorted(other.octets) and one != other:
        return "has its octets in another order than"
    return None


def near_misses(mac: Mac, plan: Plan, present: Collection[Mac] = ()) -> tuple[NearMiss, ...]:
    """The planned rows that ``mac`` nearly is; none when it is planned itself.

    A row whose own MAC is among those ``present`` on the wire was copied right: makers number
    their devices one after the other, and a neighbour in the series is no mistake.
    """
    if plan.by_mac(mac):
        return ()
    found = []
    for row in plan:
        if row.mac in present:
            continue
        how = difference(mac, row.mac) if row.mac else None
        if how:
            found.append(NearMiss(row, how))
    return tuple(found)
