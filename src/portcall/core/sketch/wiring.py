"""Which switch hangs behind which, and where a MAC is plugged in, out of the switches' own tables.

A MAC is behind every port that leads to it: the switch that is nearest to it has the fewest other
switches behind it. The port that leads back to the workstation tells nothing of what is beyond.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import NamedTuple

from portcall.core.address import Mac
from portcall.core.find.switch_tables import SwitchTables


class Plugged(NamedTuple):
    """Where something is plugged in: a switch, by its place in the list, and the port."""

    switch: int
    port: str


class Wiring:
    """The tree of some switches, as seen from the workstation.

    ``macs_of`` gives the MACs of a switch besides those that it tells; ``own`` is the workstation's
    and ``beside`` the switch that announces itself at its cable, where that is known.
    """

    def __init__(
        self,
        switches: Sequence[SwitchTables],
        macs_of: Callable[[SwitchTables], frozenset[Mac]] = lambda switch: frozenset(),
        own: Mac | None = None,
        beside: int | None = None,
    ) -> None:
        self.switches = switches
        self._own = own
        self.macs = [frozenset(each.macs) | macs_of(each) for each in switches]
        self._ports = [_ports(each) for each in switches]
        """The ports that each MAC is behind, of each switch."""
        count = range(len(switches))
        self._below: list[dict[int, str]] = [{} for _ in count]
        """The other switches that lie behind a port of each that does not lead back."""
        self.uplinks: list[str | None] = [self._port_to(n, {own} if own else set()) for n in count]
        """The port that leads back to the workstation, as far as that is known."""
        self.root = self._root(beside)
        for n in count:
            if self.uplinks[n] is None and self.root not in (None, n):
                self.uplinks[n] = self._port_to(n, self.macs[self.root or 0])
        for n in count:
            for other in count:
                port = self._port_to(n, self.macs[other], self._back(n)) if other != n else None
                if port is not None:
                    self._below[n][other] = port
        self.parents: list[Plugged | None] = [None for _ in count]
        for n in sorted(count, key=lambda each: -len(self._below[each])):
            self.parents[n] = self._parent(n)

    def plugged(self, mac: Mac) -> Plugged | None:
        """Where a MAC is plugged in; None where no switch tells it."""
        found = [
            Plugged(n, port)
            for n in range(len(self.switches))
            if (port := self._port_to(n, {mac}, self._back(n))) is not None
        ]
        return min(found, key=self._nearness, default=None)

    @property
    def workstation(self) -> Plugged | None:
        """Where the workstation is plugged in."""
        root = self.root
        return None if root is None else Plugged(root, self.uplinks[root] or "")

    def _nearness(self, place: Plugged) -> tuple[int, int]:
        return len(self._below[place.switch]), place.switch

    def _back(self, n: int) -> str | None:
        """The port whose other side is not below a switch; all of the first one's are."""
        return None if n == self.root else self.uplinks[n]

    def _port_to(
        self, n: int, macs: set[Mac] | frozenset[Mac], but: str | None = None
    ) -> str | None:
        found = (port for mac in macs for port in self._ports[n].get(mac, ()))
        return next((port for port in found if port != but), None)

    def _root(self, beside: int | None) -> int | None:
        """The switch that the workstation is plugged into, or is the nearest one to it."""
        if beside is not None:
            return beside
        candidates = [n for n, port in enumerate(self.uplinks) if port is not None]

        def between(n: int) -> int:
            """How many other switches are on the way back from this one."""
            back = self.uplinks[n]
            return sum(
                any(back in self._ports[n].get(mac, ()) for mac in self.macs[other])
                for other in candidates
                if other != n
            )

        return min(candidates, key=lambda n: (between(n), n), default=None)

    def _parent(self, n: int) -> Plugged | None:
        if n == self.root:
            return None
        above = [Plugged(m, below[n]) for m, below in enumerate(self._below) if n in below]
        # Tables that contradict each other must not make a circle.
        above = [each for each in above if n not in self._way_up(each.switch)]
        return min(above, key=self._nearness, default=None)

    def _way_up(self, n: int) -> list[int]:
        way = [n]
        while (parent := self.parents[way[-1]]) is not None:
            way.append(parent.switch)
        return way


def _ports(switch: SwitchTables) -> dict[Mac, list[str]]:
    """The ports that each MAC is behind, or announces itself at."""
    found: dict[Mac, list[str]] = {}
    for port in switch.ports:
        announced = (each.mac for each in port.neighbours if each.mac is not None)
        for mac in (*port.behind, *announced):
            found.setdefault(mac, []).append(port.name)
    return found
