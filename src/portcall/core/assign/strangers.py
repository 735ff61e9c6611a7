"""Findings about devices that ask and are not served."""

from __future__ import annotations

from collections import OrderedDict
from typing import NamedTuple

from portcall.core.address import Mac
from portcall.core.assign import sentences as say
from portcall.core.finding import Finding, Name
from portcall.core.plan.near import MOST_NEAR, NearMisses
from portcall.core.plan.rows import Plan

MOST_STRANGERS = 256
"""How many strangers are remembered with what was found out about them; the one not heard from for
longest is forgotten first.
"""


class AboutStranger(NamedTuple):
    """The findings about a stranger, and the names of the rows whose MAC is almost its own."""

    facts: tuple[Finding, ...]
    near: tuple[Name, ...] = ()


class Strangers:
    """``served`` are the rows whose devices are answered; ``others`` are planned, too."""

    def __init__(self, served: Plan, others: Plan) -> None:
        self._near = NearMisses(served)
        self._others = {row.mac: row.name for row in others if row.mac}
        self._planned = {row.mac for row in served}
        self._present: set[Mac] = set()
        self._near_to: dict[str, set[Mac]] = {}
        """Who was said to be near to a row, by its name."""
        self._told: OrderedDict[Mac, AboutStranger] = OrderedDict()

    def __len__(self) -> int:
        """How many are remembered."""
        return len(self._told)

    def is_planned(self, mac: Mac) -> bool:
        """Whether a device is planned all the same, and so none of this server's business."""
        return mac in self._others

    def served(self, mac: Mac) -> None:
        """A device that is served has asked, or answers where it should be: its MAC was copied
        correctly, so no other MAC is a near miss of it.

        At a planned place anybody may ask: who is in no row is not remembered.
        """
        if mac in self._planned and mac not in self._present:
            self._present.add(mac)
            self._told.clear()

    def _may_be_named(self, mac: Mac, name: str) -> bool:
        """Of a batch with running numbers the first few are named, and not all."""
        macs = self._near_to.setdefault(name, set())
        if mac not in macs and len(macs) < MOST_NEAR:
            macs.add(mac)
        return mac in macs

    def told_of(self, mac: Mac) -> AboutStranger:
        """What is to be said of a stranger:

        which planned device it nearly is, or that it is not planned.
        """
        told = self._told.pop(mac, None)
        if told is None and mac in self._others:
            told = AboutStranger((say.NOT_SERVED_NOW(name=self._others[mac]),))
        elif told is None:
            near = self._near.of(mac, self._present)
            named = [miss for miss in near if self._may_be_named(mac, miss.row.name)]
            facts = tuple(miss.finding for miss in named) or (say.NOT_PLANNED(),)
            told = AboutStranger(facts, tuple(miss.row.name for miss in named))
        self._told[mac] = told
        if len(self._told) > MOST_STRANGERS:
            self._told.popitem(last=False)
        return told
