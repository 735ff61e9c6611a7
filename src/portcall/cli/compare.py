"""``portcall compare``."""

from __future__ import annotations

import click

from portcall.cli.main import INTERRUPTED, NO, YES
from portcall.cli.options import adapter_option, json_option
from portcall.cli.say import note, print_json, wants_json, zone_words
from portcall.cli.table import Remark, Tone, console, print_lines
from portcall.core.finding import Line
from portcall.core.record.compare import Changed, Comparison, compare
from portcall.core.record.look import SeenDevice
from portcall.core.record.planned import RowChange
from portcall.core.trouble import BadInput
from portcall.jobs.record.plan_history import planned_between
from portcall.jobs.record.reading import Looks, NamedLook, explained
from portcall.site.folder import Site, this_site
from portcall.site.logbook.store import Logbook

_NOW = "now"


@click.command("compare")
@click.argument("first", required=False, metavar="[A")
@click.argument("second", required=False, metavar="[B]]")
@adapter_option
@json_option
def compare_command(first: str | None, second: str | None) -> int:
    """Say what changed between two looks, A and then B: devices, addresses, names, firmware, doors.

    A and B are looks or verifications: last, a number of portcall logbook show, yesterday,
    2026-11-20, "2026-11-20 14:00", a file of find --json; or now, which looks afresh. Without B it
    is the last, without A the one before. What one of them could not see is not called vanished.
    Ends with 0 when nothing has changed, 1 when something has. What was planned otherwise meanwhile
    is told, too, and is no change of a device.

    \b
    portcall compare
    portcall compare yesterday now
    """
    site = this_site()
    if first == _NOW:
        raise BadInput("now is the later of two", Line("compare", "last", "now"))
    book = Logbook(site.folder)
    looks = Looks(book)
    afresh = second == _NOW
    # Load the earlier look first: if there is none, the command ends before anything is sent.
    earlier = looks.from_the_end(0 if afresh else 1) if first is None else looks.named(first)
    later = _afresh(site) if afresh else looks.named(second or "last")
    if later is None:
        return INTERRUPTED
    found = compare(earlier.look, later.look, explained(book, earlier, later))
    planned = planned_between(book, earlier.at, later.at)
    if wants_json():
        print_json({**_document(found, earlier, later), "planned": list(map(_planned, planned))})
    else:
        _print(found, earlier, later)
        if planned:
            console().print("planned otherwise meanwhile", style="bold")
            print_lines(Remark(f"{each}{_by(each)}") for each in planned)
    return YES if found.is_same else NO


def _afresh(site: Site) -> NamedLook | None:
    # Importing the code that looks at the wire takes longer than most comparisons.
    from portcall.cli.afresh import look_afresh

    return look_afresh(site)


def _print(found: Comparison, earlier: NamedLook, later: NamedLook) -> None:
    note(f"{earlier}, and then {later}; times in {zone_words()}")
    lines = [Remark(f"{_who(each)} appeared", Tone.TO_DO) for each in found.appeared]
    lines += [Remark(f"{_who(each)} vanished", Tone.BROKEN) for each in found.vanished]
    lines += [Remark(f"{_whose(each)}: {each}", Tone.TO_DO) for each in found.changed]
    print_lines(lines)
    if found.is_same:
        print_lines([Remark("nothing has changed, of what both could see", Tone.DONE)])
    if found.undecided:
        console().print("not decided", style="bold")
        print_lines(Remark(f"{_who(each.device)}: {each.reason}") for each in found.undecided)


def _who(device: SeenDevice) -> str:
    named = device.called or device.values.get("product", "")
    at = ", ".join(device.addresses) or "no address"
    return ", ".join(part for part in (device.mac, named, at) if part)


def _whose(change: Changed) -> str:
    return f"{change.mac} ({change.name})" if change.name else change.mac


def _document(found: Comparison, earlier: NamedLook, later: NamedLook) -> dict[str, object]:
    return {
        "from": _named(earlier),
        "to": _named(later),
        "appeared": [_device(each) for each in found.appeared],
        "vanished": [_device(each) for each in found.vanished],
        "changed": [
            {
                "mac": each.mac or None,
                "name": each.name or None,
                "what": each.what,
                "was": each.was or None,
                "is": each.now or None,
                "why": each.why or None,
            }
            for each in found.changed
        ],
        "undecided": [{**_device(each.device), "reason": each.reason} for each in found.undecided],
    }


def _by(change: RowChange) -> str:
    entry = change.entry
    who = "by hand" if change.by_hand else f"by {entry.person}@{entry.workstation}"
    return f" ({who}, {entry.at.astimezone():%Y-%m-%d %H:%M})"


def _planned(change: RowChange) -> dict[str, object]:
    return {
        "name": change.name,
        "was": change.was,
        "is": change.now,
        "by_hand": change.by_hand,
        "person": change.entry.person,
        "changed": change.entry.document["at"],
    }


def _named(meant: NamedLook) -> dict[str, object]:
    return {
        "look": meant.words,
        "at": meant.at.isoformat(timespec="milliseconds") if meant.at else None,
        "devices": len(meant.look),
    }


def _device(device: SeenDevice) -> dict[str, object]:
    return {
        "mac": device.mac or None,
        "addresses": list(device.addresses),
        "name": device.called or None,
    }
