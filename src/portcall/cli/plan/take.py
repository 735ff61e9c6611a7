"""``portcall plan take``."""

from __future__ import annotations

import sys
from collections.abc import Collection, Sequence

import click

from portcall.cli.main import INTERRUPTED, NO, YES
from portcall.cli.options import (
    adapter_option,
    capture_file,
    capture_option,
    chosen_adapter,
    json_option,
    named_adapter,
    say_what_rights_are_missing,
)
from portcall.cli.plan.edit import change_document
from portcall.cli.recording import recorded
from portcall.cli.running import run_until_interrupted
from portcall.cli.say import note, print_json, shown_path, wants_json
from portcall.cli.table import wide_option
from portcall.cli.views.devices import Found, not_run_lines
from portcall.cli.views.finding import finding_view
from portcall.cli.views.proposals import Choice, choose, print_parts, print_proposals
from portcall.core.address import Mac, parse_mac
from portcall.core.counted import counted
from portcall.core.find.device import Device
from portcall.core.find.proposing import (
    LeftOut,
    Proposal,
    is_meant,
    propose,
    propose_parts,
)
from portcall.core.finding import values_as_json
from portcall.core.part_path import Wanted
from portcall.core.plan.changing import Cells, Change, adding
from portcall.core.plan.targets import parse_targets
from portcall.core.record.entry import Entry, Kind
from portcall.core.trouble import BadInput
from portcall.jobs.look.looked import look
from portcall.jobs.look.orders import gathering_for, orders_for, with_inside
from portcall.jobs.record.looks import look_body
from portcall.jobs.record.reading import Looks
from portcall.site.folder import Site, this_site
from portcall.site.logbook.store import Logbook
from portcall.site.logbook.writing import write_if_possible


@click.command("take")
@click.argument("ranges", nargs=-1, metavar="[RANGE]…")
@click.option("--all", "take_all", is_flag=True, help="Take every row that is proposed.")
@click.option(
    "--only",
    "only",
    multiple=True,
    metavar="MAC",
    help="Take this device, and no other that is not named so; may be repeated.",
)
@click.option(
    "--from",
    "earlier",
    metavar="LOOK",
    help="Take what an earlier look found, and send nothing: last, a number of logbook show, a "
    "time as yesterday, or the file of a find --json.",
)
@click.option(
    "--inside", is_flag=True, help="Ask what is inside of each device, and take its parts, too."
)
@click.option("--dry-run", is_flag=True, help="Show what would be taken, and write nothing.")
@wide_option
@adapter_option
@capture_option
@json_option
def take_command(
    ranges: tuple[str, ...],
    take_all: bool,
    only: tuple[str, ...],
    earlier: str | None,
    inside: bool,
    dry_run: bool,
    wide: bool,
) -> int:
    """Look at the wire, and take what is found and not planned into the plan.

    A row is proposed for each such device: named as it calls itself, or by its kind and a number.
    Who shares an address, has none or is at a maker's default one gets no row; it is said why. The
    rows that the plan has are never changed. On a terminal it asks once before it writes; without
    one, --all or --only says what to take.

    With --inside, devices are asked for their interfaces, modules and units, slowly, as find
    --inside does, and parts that are not planned get rows; those of devices that are in the plan,
    too. Name a RANGE with it.

    \b
    portcall plan take
    portcall plan take 10.61.20.0/24 --all
    """
    if take_all and only:
        raise BadInput("--all and --only contradict each other")
    if inside and earlier is None and not ranges:
        raise BadInput("--inside asks devices one by one", "name a RANGE or a planned device")
    if not (take_all or only or dry_run) and not _is_at_a_terminal():
        raise BadInput(
            "there is nobody at a terminal to ask: --all takes every row, --only MAC one, "
            "--dry-run shows them"
        )
    wanted = [parse_mac(text) for text in only]
    site = this_site()
    if earlier is not None:
        if ranges or named_adapter() or capture_file():
            raise BadInput("--from sends nothing: name no RANGE, --adapter or --capture with it")
        found, entry = _earlier(site, earlier)
    else:
        looked_at = _look(site, ranges, inside)
        if looked_at is None:
            note("interrupted; nothing is written")
            return INTERRUPTED
        found, entry = looked_at
    within = parse_targets(ranges, found.scene.plan)
    proposals, left_out = propose(found.scene, found.defaults, _told(found.devices, wanted), within)
    if wanted:
        proposals = tuple(each for each in proposals if each.device.mac in wanted)
    parts = _parts(found, proposals) if inside else ()
    for line in found.incomplete:
        note(line)
    if not wants_json():
        meant = sum(is_meant(device, within) for device in found.devices)
        print_proposals(meant, proposals, left_out, wide)
        print_parts(parts)
    _check_found(wanted, found, proposals, left_out)
    asks = not (take_all or only or dry_run)
    changed = _taken(site, proposals, parts, dry_run, asks)
    written = bool(changed) and not dry_run
    if written and site.folder is None and entry is not None:
        # The plan makes this folder a site; what was seen before belongs to it.
        note(write_if_possible(this_site().folder, entry) or "the look is in its logbook, too")
    if wants_json():
        print_json(_document(proposals, parts, left_out, changed or (), written))
    return _said(site, changed, (*proposals, *parts), dry_run)


def _parts(found: Found, proposals: Sequence[Proposal]) -> tuple[Cells, ...]:
    """Rows for parts of the devices that are planned, or are proposed here."""
    plan = found.scene.plan
    owners = {row.mac: str(row.of or row.name) for row in plan if row.mac is not None}
    owners |= {each.row.mac: each.cells["name"] for each in proposals if each.row.mac is not None}
    return propose_parts(found.scene, owners)


def _look(
    site: Site,
    ranges: Sequence[str],
    inside: bool,
) -> tuple[Found, Entry] | None:
    """Look at the wire, and write it down; None when Ctrl-C ended that."""
    gathering = gathering_for(site)
    named = parse_targets(ranges, gathering.plan)
    adapter = chosen_adapter()
    say_what_rights_are_missing()
    orders = orders_for(adapter, site, gathering, named)
    if inside:
        orders = with_inside(orders, gathering, Wanted(), unpaced=False)
    with finding_view(gathering, wants_json()) as draw:
        looked, interrupted = run_until_interrupted(
            lambda stop: look(adapter, orders, gathering, stop=stop, progress=draw, tell=note)
        )
    if interrupted:
        return None
    looked.to_its_end()
    for line in not_run_lines(looked.look.not_run):
        note(line)
    how_far = (looked.look.unsearched, looked.look.swept)
    found = Found(gathering, adapter.interfaces, site, *how_far)
    told = counted(len(found.devices), "device")
    body = look_body(looked, found.devices)
    return found, recorded(site, Kind.LOOK, told, body, adapter=adapter.name)


def _earlier(site: Site, words: str) -> tuple[Found, Entry | None]:
    """The devices that an earlier look found, and its entry in the logbook."""
    gathering = gathering_for(site)
    named = Looks(Logbook(site.folder)).named(words)
    for seen in named.look.sightings():
        gathering.add(seen)
    return Found(gathering, None, site, asked=named.look.ranges), named.whole


def _is_at_a_terminal() -> bool:
    return not wants_json() and sys.stdin.isatty() and sys.stdout.isatty()


def _told(devices: Sequence[Device], wanted: Collection[Mac]) -> list[Device]:
    return [device for device in devices if device.mac in wanted]


def _check_found(
    wanted: Sequence[Mac], found: Found, proposals: Sequence[Proposal], left_out: Sequence[LeftOut]
) -> None:
    """Raise BadInput where a device that was named gets no row: then none is written."""
    proposed = {each.device.mac for each in proposals}
    reasons = {each.device.mac: each.reason for each in left_out}
    for mac in wanted:
        if mac in proposed:
            continue
        row = found.scene.plan.by_mac(mac)
        unseen = f"it is {row.name} in the plan already" if row else "it was not found"
        raise BadInput(f"--only {mac}: {reasons.get(mac, unseen)}")


def _taken(
    site: Site,
    proposals: Sequence[Proposal],
    parts: Sequence[Cells],
    dry_run: bool,
    asks: bool,
) -> tuple[Change, ...] | None:
    """Write what is wanted of the rows, and give what that changed; None for "none of them"."""
    rows: Sequence[Cells] | None = [*(each.cells for each in proposals), *parts]
    if not rows:
        return ()
    if not asks:
        return site.change_plan(adding(rows), dry_run)
    choice = Choice(proposals, parts)
    while True:
        rows = choose(choice)
        if not rows:
            return None
        try:
            return site.change_plan(adding(rows))
        except BadInput as trouble:
            # A value that the person typed can be corrected without another look.
            note(str(trouble))
            choice.edited = rows


def _said(
    site: Site,
    changed: tuple[Change, ...] | None,
    proposals: Sequence[object],
    dry_run: bool,
) -> int:
    """Say how it went."""
    if not wants_json():
        if not proposals:
            note("nothing to take")
        elif not changed:
            note("nothing is written")
        elif dry_run:
            note(f"{counted(len(changed), 'row')} would be added; nothing is written")
        else:
            rows = counted(len(changed), "row")
            note(f"{shown_path(site.own_plan)}: {rows} added: portcall plan check")
    return NO if proposals and not changed else YES


def _document(
    proposals: Sequence[Proposal],
    parts: Sequence[Cells],
    left_out: Sequence[LeftOut],
    changed: Sequence[Change],
    written: bool,
) -> dict[str, object]:
    return {
        "proposed": [{"row": each.cells, "remark": each.remark or None} for each in proposals],
        "parts": [dict(each) for each in parts],
        "left_out": [
            {
                "mac": str(each.device.mac) if each.device.mac else None,
                "addresses": [str(address) for address in each.device.addresses],
                "reason": str(each.reason),
                "code": each.reason.code,
                "values": values_as_json(each.reason),
            }
            for each in left_out
        ],
        "written": written,
        "changes": [change_document(change) for change in changed] if written else [],
    }
