"""Which rows an assignment serves: those that were typed, or all of the plan that can be."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from ipaddress import IPv4Interface

from portcall.core.adapters.adapter import Adapter
from portcall.core.counted import named
from portcall.core.finding import Line
from portcall.core.plan.rows import Plan, PlannedDevice, parse_pair
from portcall.core.plan.targets import row_of, unknown
from portcall.core.printable import printable
from portcall.core.trouble import BadInput, NotPossibleHere
from portcall.jobs.telling import Tell, nobody
from portcall.site.folder import Site


@dataclass(frozen=True, slots=True)
class NotServed:
    """Rows of the plan that no device can be recognised by yet."""

    names: tuple[str, ...]

    def __str__(self) -> str:
        return f"no MAC in the plan yet, not served: {', '.join(self.names)}"


@dataclass(frozen=True, slots=True)
class ByRelayOnly:
    """Rows whose addresses are in no subnet of the adapter."""

    rows: tuple[PlannedDevice, ...]
    adapter: str

    def __str__(self) -> str:
        names = named([row.name for row in self.rows], _MOST_NAMED)
        return f"outside {self.adapter}'s subnets, served through a relay only: {names}"


_MOST_NAMED = 6


@dataclass(frozen=True, slots=True)
class Served:
    """The site, what was typed, and the adapter: by these the rows are chosen, after edits too."""

    site: Site
    words: tuple[str, ...]
    adapter: Adapter

    def plan(self) -> Plan:
        """The rows as the plan has them now. Raises BadInput and NotPossibleHere."""
        return in_reach(rows_to_serve(self.site, self.words), self.adapter)

    def others(self, plan: Plan) -> Plan:
        """The rows of the site's plan that are not served: their devices are left alone."""
        names = {row.name for row in plan}
        return Plan(tuple(row for row in self.site.plan() if row.name not in names))


def rows_to_serve(
    site: Site, words: Sequence[str], may_be_empty: bool = False, tell: Tell = nobody
) -> Plan:
    """The rows that devices can be recognised by; tells which are not. Raises BadInput."""
    plan = site.plan()
    pairs = [parse_pair(word, site.subnets) for word in words if "=" in word]
    kept = set()
    for word in words:
        if "=" not in word:
            row = row_of(word, plan)
            if row is None:
                raise unknown(f"{printable(word, 60)}: is", word, plan)
            kept.add(row.name)
    for pair in pairs:
        plan = plan.with_pair(pair)
    if words:
        macs = {pair.mac for pair in pairs}
        chosen = (r for r in plan if r.name in kept or (r.mac and r.mac in macs))
        plan = Plan(tuple(chosen))
    unready = tuple(row.name for row in plan if not row.is_served)
    if unready:
        tell(NotServed(unready))
    served = tuple(row for row in plan if row.is_served)
    if not served and not may_be_empty:
        raise BadInput(
            "nothing to serve: give the plan's rows a MAC, or type MAC=ADDRESS "
            "(02-77-B1-4C-09-21=10.61.20.21/24), or let --ask find out who is who"
        )
    return Plan(served)


def in_reach(plan: Plan, adapter: Adapter, tell: Tell = nobody) -> Plan:
    """The plan, when this adapter can serve it; tells what it can serve through a relay only.

    Raises BadInput and NotPossibleHere.
    """
    inside: list[PlannedDevice] = []
    outside: list[PlannedDevice] = []
    for row in plan:
        own: IPv4Interface | None = adapter.on_subnet_of(row.address)
        if own is not None and own.ip == row.address:
            raise BadInput(
                f"{row.address}: the plan gives it to {row.name}, and this computer has it on "
                f"{adapter.name}; to take another",
                Line("match", row.name, "--replace"),
            )
        (outside if own is None else inside).append(row)
    if not adapter.interfaces or (outside and not inside and not any(r.circuit for r in outside)):
        if not outside:
            raise NotPossibleHere(
                f"{adapter.name} has no address to serve from; first", Line("match", "SUBNET")
            )
        row = outside[0]
        raise NotPossibleHere(
            f"{adapter.name} is not in the subnet of {row.name} ({row.interface.network}); add "
            "--match, or first",
            Line("match", row.address),
        )
    by_relay = tuple(row for row in outside if not row.circuit)
    if by_relay:
        tell(ByRelayOnly(by_relay, adapter.name))
    return plan
