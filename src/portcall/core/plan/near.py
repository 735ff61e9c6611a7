"""Near misses: a MAC that asks and is almost a planned one. A mistyped digit costs an hour."""

from __future__ import annotations

from collections.abc import Collection, Iterable
from dataclasses import dataclass

from portcall.core.address import Mac
from portcall.core.finding import Finding, Sentence
from portcall.core.plan.rows import Plan, PlannedDevice


@dataclass(frozen=True, slots=True)
class NearMiss:
    """The planned row that a MAC nearly is, and how it differs."""

    row: PlannedDevice
    how: str

    @property
    def finding(self) -> Finding:
        """The same as a finding."""
        return NEAR_MISS(how=self.how, name=self.row.name, planned_mac=self.row.mac)

    def __str__(self) -> str:
        return str(self.finding)


NEAR_MISS = Sentence("near-miss", "{how} {name} in the plan ({planned_mac})")


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


class NearMisses:
    """A plan, arranged so that a MAC is compared only with the few rows it can be near to.

    When a plant powers up, thousands of MACs ask that are not planned.
    """

    def __init__(self, plan: Plan) -> None:
        self._rows: dict[str, list[PlannedDevice]] = {}
        for row in plan:
            if row.mac is not None:
                for key in _keys(row.mac):
                    self._rows.setdefault(key, []).append(row)

    def of(self, mac: Mac, present: Collection[Mac] = ()) -> tuple[NearMiss, ...]:
        """The planned rows that ``mac`` nearly is; none when it is planned itself.

        A row whose own MAC is among those ``present`` on the wire was copied correctly: makers
        number their devices one after the other, so a neighbour in the series is no mistake.
        """
        rows = {row.name: row for key in _keys(mac) for row in self._rows.get(key, ())}
        return near_misses(mac, rows.values(), present)

    def crowd(self, present: Iterable[Mac]) -> frozenset[str]:
        """The rows that too many of the MACs present nearly are: a batch, of which none is meant.

        By their names. MACs that are planned themselves do not count.
        """
        counts: dict[str, int] = {}
        for mac in present:
            for miss in self.of(mac):
                counts[miss.row.name] = counts.get(miss.row.name, 0) + 1
        return frozenset(name for name, count in counts.items() if count > MOST_NEAR)


MOST_NEAR = 3
"""So many devices at most are named as near to one row: more are a batch with running numbers."""


def near_misses(
    mac: Mac, rows: Iterable[PlannedDevice], present: Collection[Mac] = ()
) -> tuple[NearMiss, ...]:
    """As ``NearMisses.of``, held against each of some rows."""
    found = []
    for row in rows:
        if row.mac == mac:
            return ()
        how = difference(mac, row.mac) if row.mac and row.mac not in present else None
        if how:
            found.append(NearMiss(row, how))
    return tuple(found)


def _keys(mac: Mac) -> list[str]:
    """Keys that two near MACs have in common: all digits but one, or all in any order."""
    digits = mac.hex()
    return [f"{digits[:n]}-{digits[n + 1 :]}" for n in range(12)] + ["".join(sorted(digits))]
