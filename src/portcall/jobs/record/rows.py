"""The rows of the last list that was shown at a site, which a person names by their numbers."""

from __future__ import annotations

import asyncio
from collections.abc import Callable
from dataclasses import dataclass
from datetime import UTC, datetime
from ipaddress import IPv4Address

from portcall.core.adapters.adapter import Adapter
from portcall.core.address import Mac
from portcall.core.document import Part, a_mac, a_text, a_truth, an_address, told_text
from portcall.core.finding import Line
from portcall.core.plan.rows import Plan
from portcall.core.plan.unset import to_get_an_address
from portcall.core.record.entry import Kind
from portcall.core.trouble import BadInput
from portcall.jobs.look.holders import holders_of
from portcall.jobs.record.by import By
from portcall.jobs.telling import Tell
from portcall.jobs.workstation.rights import lacks_raw_ethernet
from portcall.site.folder import Site
from portcall.site.logbook.store import Logbook
from portcall.site.logbook.who import who

NUMBERED = "numbered"
"""Marks a look in the logbook whose devices were shown with numbers, in their order."""

_LONGEST = 3600.0
"""Seconds after which nobody has the list before him any more, and the wire may be another."""

_MOST_TRIED = 8


@dataclass(frozen=True, slots=True)
class ListedRow:
    """A device in a list: its number there, and what was seen of it."""

    number: int
    name: str
    mac: Mac | None
    address: IPv4Address | None
    at: datetime
    asks: bool = False
    """Whether it asked for an address there."""

    def __str__(self) -> str:
        called = [self.name, str(self.mac or ""), f"at {self.address}" if self.address else ""]
        return f"{self.number} is {', '.join(filter(None, called))}"


def listed_row(
    site: Site, number: int, now: Callable[[], datetime] = lambda: datetime.now(UTC)
) -> ListedRow:
    """The row with a number of the list that was shown last. Raises BadInput, NotPossibleHere."""
    found, here = Logbook(site.folder).entries((Kind.LOOK,)), who().workstation
    mine = [each for each in found if each.entry.workstation == here]
    for each in reversed(mine[-_MOST_TRIED:]):
        body = Part(each.body)
        if not body.get(NUMBERED, a_truth, False):
            continue
        age = (now() - each.entry.at).total_seconds()
        if not 0 <= age <= _LONGEST:
            shown = f"{each.entry.at.astimezone():%d %b %H:%M}"
            raise BadInput(
                f"{number}: the last list, of {shown}, is more than an hour old", Line("find")
            )
        devices = list(body.parts("devices"))
        if not 1 <= number <= len(devices):
            has = f"the last list has the rows 1 to {len(devices)}" if devices else "it is empty"
            raise BadInput(f"{number}: {has}", Line("find"))
        seen = devices[number - 1]
        return ListedRow(
            number,
            seen.get("name", told_text, told_text("")),
            seen.get("mac", a_mac),
            next(iter(seen.each("addresses", an_address)), None),
            each.entry.at,
            bool(seen.each("asks", a_text)),
        )
    raise BadInput(f"{number}: there is no list yet in which this is a row", Line("find"))


def meant_by(
    site: Site, plan: Plan, adapter: Adapter | None, number: int, by: By, tell: Tell
) -> str:
    """The word for a row of the last list that a command takes; tells which device that is.

    By its MAC a device is known wherever it is now. What is to be asked at an address is asked
    first who has it, on ``adapter``, as far as that can be asked here. Raises BadInput.
    """
    row = listed_row(site, number)
    if by is By.DEVICE and row.mac is not None:
        tell(row)
        return str(row.mac)
    if row.address is None:
        raise BadInput(
            f"{row}: it had no address there", to_get_an_address(row.mac, row.asks, plan)
        )
    if row.mac is not None and adapter is not None and not lacks_raw_ethernet():
        there = asyncio.run(holders_of(adapter, row.address))
        if there and row.mac not in there:
            others = " and ".join(map(str, sorted(there)))
            raise BadInput(f"{row}: now {others} answers there", Line("find"))
    tell(row)
    return str(row.address)
