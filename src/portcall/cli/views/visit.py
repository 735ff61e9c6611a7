"""What a visit says on the way in and on the way out. All on stderr: stdout is the person's."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from datetime import datetime

from portcall.cli.say import note, zone_words
from portcall.cli.views.devices import what
from portcall.core.adapters.adapter import Adapter
from portcall.core.find.device import Device
from portcall.core.find.sighting import Field
from portcall.core.plan.rows import Plan
from portcall.core.record.entry import Kind
from portcall.core.record.standing import Standing
from portcall.core.trouble import NotPossibleHere
from portcall.jobs.look.meeting import Met
from portcall.jobs.record.reading import how_far
from portcall.jobs.workstation.restore import Restored, listed
from portcall.site.folder import Site
from portcall.site.logbook.store import Logbook, Numbered

_MOST_DONE = 12
_DONE = (Kind.ASSIGNED, Kind.SETTING, Kind.SWAP, Kind.PLAN, Kind.VERIFICATION, Kind.POWER_CYCLE)


def say_card(met: Met, device: Device, plan: Plan, adapter: Adapter) -> None:
    """The device in five lines."""
    for line in _card(met, device, plan, adapter):
        note(line)


def _card(met: Met, device: Device, plan: Plan, adapter: Adapter) -> Iterator[str]:
    known = (str(met.address), str(met.mac or ""))
    name = device.value(Field.NAME) if met.name in known else met.name
    yield "  ".join(filter(None, (name, *known)))
    serial, firmware = device.value(Field.SERIAL), device.value(Field.FIRMWARE)
    told = (
        what(device),
        f"serial {serial}" if serial else "",
        f"firmware {firmware}" if firmware else "",
    )
    yield f"  is    {', '.join(filter(None, told)) or 'it says nothing of itself'}"
    yield f"  open  {', '.join(map(str, device.doors)) or 'none of the usual doors'}"
    yield f"  plan  {_plan_words(met, plan)}"
    own = adapter.on_subnet_of(met.address)
    yield f"  here  {adapter.name} {own or ''}".rstrip()


def _plan_words(met: Met, plan: Plan) -> str:
    row = plan.by_mac(met.mac) if met.mac is not None else None
    if row is None:
        holder = plan.by_address(met.address)
        if holder is None:
            return "in no row of it"
        planned = f", planned with {holder.mac}" if holder.mac is not None else ""
        return f"{holder.interface} is {holder.name}'s{planned}"
    if row.address == met.address:
        return f"{row.name}, {row.interface}: where it is planned"
    return f"{row.name}, planned at {row.interface}: portcall move {row.name}"


def say_what_was_done(site: Site, plan: Plan, since: datetime) -> None:
    """What the logbook has of the visit, and what of it does not last."""
    try:
        book = Logbook(site.folder)
        done = book.entries(_DONE, since=since)
    except NotPossibleHere as trouble:
        note(trouble)
        return
    if done:
        note(f"in this visit, times in {zone_words()}:")
    for each in done[-_MOST_DONE:]:
        note(f"  {_words(each)}")
    if done:
        for sentence in _not_kept(how_far(book, plan), done):
            note(sentence)


def _words(each: Numbered) -> str:
    entry = each.entry
    who = f" {entry.name}" if entry.name else ""
    return f"{entry.at.astimezone():%H:%M:%S} {entry.kind}{who}: {entry.summary}"


def _not_kept(standing: Standing, done: Sequence[Numbered]) -> Iterator[str]:
    """A sentence for each device of the visit that would lose what it was given."""
    touched = {each.entry.name for each in done}
    for each in standing.rows:
        because = each.open_because
        if each.row.name in touched and because is not None:
            line = f": {each.next_line}" if each.next_line is not None else ""
            yield f"not kept: {each.row.name}: {because.sentence}{line}"


def say_how_it_is_left(restored: Sequence[Restored]) -> None:
    """Whether this computer is as it was; what became of each address was told one by one."""
    left = [each for each in restored if not each.done]
    if left:
        names = listed([each.entry.added for each in left])
        note(f"NOT put back yet: {names}; what to do stands above, and: portcall restore")
    elif not restored:
        note("nothing of this visit is left on this computer")
