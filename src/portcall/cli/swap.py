"""``portcall swap``."""

from __future__ import annotations

import asyncio
import sys
from collections.abc import Callable, Coroutine, Sequence
from functools import partial
from typing import Any

import click

from portcall.cli.main import INTERRUPTED, NO, YES
from portcall.cli.options import (
    adapter_option,
    capture_option,
    chosen_adapter,
    is_number,
    json_option,
    target_meant,
)
from portcall.cli.recording import recorded
from portcall.cli.running import run_until_interrupted
from portcall.cli.say import note, print_json, wants_json
from portcall.cli.views.swapped import (
    ask_which,
    candidate_document,
    say_swapped,
    show_both,
    show_candidates,
    swapped_document,
    tell_swap,
)
from portcall.core.adapters.adapter import Adapter
from portcall.core.address import Mac, parse_mac
from portcall.core.finding import Finding, Line, Name, Setting
from portcall.core.plan.rows import Plan, PlannedDevice
from portcall.core.plan.targets import parse_device
from portcall.core.record.entry import Kind
from portcall.core.swap import Candidate, the_one
from portcall.core.trouble import BadInput
from portcall.core.verify.judgement import Verdict
from portcall.jobs.record.by import By
from portcall.jobs.swap.looking import Around, NobodyNew, look_for_new
from portcall.jobs.swap.swap import HowToSwap, judge_row, swap
from portcall.site.folder import Site, this_site
from portcall.site.logbook.plan_changes import macs_before
from portcall.site.logbook.store import Logbook

LONGEST_WAIT = 86_400.0
BY_HAND = 120.0
"""Seconds that somebody has at least to set a device by hand."""


@click.command("swap")
@click.argument("name")
@click.option(
    "--with",
    "chosen",
    metavar="MAC",
    help="Which device is the new one; a number of the last list will do, too.",
)
@click.option(
    "--wait",
    type=click.FloatRange(0, LONGEST_WAIT),
    default=0.0,
    metavar="SECONDS",
    help="How long to look again when nobody new is heard, and to wait for one set by hand, "
    "for which it is 120 at least.",
)
@click.option("--yes", is_flag=True, help="Take the one that is found without asking.")
@click.option("--force", is_flag=True, help="Set a device even when it is controlling something.")
@click.option("--other-product", is_flag=True, help="Take it although it is another product.")
@click.option("--alongside", is_flag=True, help="Serve although another DHCP server is here.")
@adapter_option
@capture_option
@json_option
def swap_command(
    name: str,
    chosen: str | None,
    wait: float,
    yes: bool,
    force: bool,
    other_product: bool,
    alongside: bool,
) -> int:
    """Put a new device in the place of one that died: address, name, proof, MAC into the plan.

    NAME is the planned one that is gone. The new one is found by what a device does that nobody has
    set: it asks for an address, has none, or is at a maker's default one. Both are shown, and Enter
    begins. While the old one is still heard nothing is done. The plan is changed last: ended before
    that, it is as it was, and the same line typed again goes on.

    \b
    portcall swap fan-drive-1
    portcall swap fan-drive-1 --with 02-77-B1-4C-0A-77 --yes
    """
    asks = not yes
    if asks and (wants_json() or not (sys.stdin.isatty() and sys.stdout.isatty())):
        raise BadInput("there is nobody at a terminal to ask: --yes takes the one that is found")
    site = this_site()
    plan = site.plan()
    if chosen and is_number(chosen):
        chosen = target_meant(chosen, site, plan, By.DEVICE)
    mac = parse_mac(chosen) if chosen else None
    row = _row(name, plan)
    adapter = chosen_adapter()
    note(f"looking for the device that replaces {row.name}, {row.mac} at {row.address} …")
    around = look_for_new(adapter, site, plan, row, wait, note)
    if around.still_there is not None:
        return _refused(around, adapter, site, plan)
    if not around.candidates and mac is None:
        return _none(row)
    new = _chosen(around, mac, plan)
    if new is None and not asks:
        return _several(around)
    if asks:
        new = ask_which(around) if new is None else _confirmed(around, new)
        if new is None:
            note("nothing is changed")
            return NO
    assert new is not None
    swapped = swap(
        adapter,
        site,
        plan,
        around,
        new,
        HowToSwap(
            max(wait, BY_HAND),
            force,
            alongside,
            partial(_may_be_other, other_product, asks),
            partial(_may_stay_open, asks),
        ),
        tell_swap,
        _until,
    )
    if swapped is None:
        note("interrupted: the plan is as it was; the same line goes on")
        return INTERRUPTED
    document = swapped_document(swapped, around, new)
    about = {"adapter": adapter.name, "name": row.name, "mac": str(new.mac)}
    verdict = swapped.judgement.verdict if swapped.judgement else "not done"
    told = f"{new.mac} for {swapped.old}: {verdict}"
    recorded(site, Kind.SWAP, told, document, **about, address=str(row.address))
    if wants_json():
        print_json(document)
    else:
        say_swapped(swapped)
    return YES if swapped.is_right else NO


def _row(name: str, plan: Plan) -> PlannedDevice:
    row = parse_device(name, plan).row
    if row is None:
        raise BadInput(f"{name}: is not in the plan, so nothing is known whose place it is")
    if row.mac is None and row.circuit:
        raise BadInput(
            f"{row.name}: is known by its place, so that a new one there gets its address as it is",
            Line("assign", row.name),
        )
    if row.mac is None:
        raise BadInput(
            f"{row.name}: has no MAC in the plan, so no device is gone",
            Line("plan set", row.name, Setting(Name("mac"), "MAC")),
        )
    return row


def _until(work: Callable[[asyncio.Event], Coroutine[Any, Any, None]]) -> bool:
    _, interrupted = run_until_interrupted(work)
    return interrupted


def _chosen(around: Around, mac: Mac | None, plan: Plan) -> Candidate | None:
    """The device that was named, or the only one that can be meant. Raises BadInput."""
    if mac is None:
        return the_one(around.candidates)
    for each in around.candidates:
        if each.mac == mac:
            return each
    planned = plan.by_mac(mac)
    if planned is not None:
        raise BadInput(f"--with {mac}: it is {planned.name} in the plan")
    device = next((each for each in around.devices if each.mac == mac), None)
    if device is None:
        raise BadInput(f"--with {mac}: it is not heard on this wire")
    at = ", ".join(str(address) for address in device.addresses) or "no address"
    return Candidate(device, f"it was named, and is at {at}", None)


def _confirmed(around: Around, new: Candidate) -> Candidate | None:
    show_both(around, new)
    row = around.gone.row
    question = f"Enter makes it {row.name}, {row.interface}; n: nothing is done"
    return new if _answer(question) == "" else None


def _may_be_other(may: bool, asks: bool, differs: Sequence[Finding]) -> bool:
    """Whether another product may take the place: said by an option, or by a person, in full."""
    for sentence in differs:
        note(f"another product: {sentence}")
    if may or not asks:
        return may
    question = "it may be the wrong device; yes puts it in all the same, anything else ends this"
    return _answer(question).casefold() == "yes"


def _may_stay_open(asks: bool, findings: Sequence[Finding]) -> bool:
    """Whether a device that does not hold its address may be the planned one."""
    note(f"it does not hold its address when the power goes: {'; '.join(map(str, findings))}")
    if not asks:
        return True
    question = "Enter writes it into the plan, and this stays open; n: the plan stays as it is"
    return _answer(question) == ""


def _answer(question: str) -> str:
    """Ask a question and give the typed answer; "" for Enter. Raises click.Abort."""
    said: str = click.prompt(question, default="", show_default=False, err=True)
    return said.strip()


def _refused(around: Around, adapter: Adapter, site: Site, plan: Plan) -> int:
    """The old one is heard: nothing is done; unless it is the new one of a swap that is done."""
    row = around.gone.row
    assert row.mac is not None
    before = macs_before(site.own_plan.parent, row.name, row.mac)
    is_done = False
    if before:
        judgement, _ = judge_row(adapter, site, plan, row, note)
        is_done = judgement.verdict is Verdict.RIGHT or judgement.is_unread
    if is_done:
        sentence = f"{row.name} is right: {row.mac} took the place of {before[-1]} already"
        if judgement.verdict is Verdict.RIGHT:
            _record_late(site, adapter, row, before[-1])
    else:
        sentence = f"{around.still_there}; nothing is done"
    if wants_json():
        document = {"name": row.name, "swapped": False, "is_right": is_done, "why": sentence}
        print_json(document)
    else:
        click.echo(sentence)
    return YES if is_done else NO


def _record_late(site: Site, adapter: Adapter, row: PlannedDevice, old: Mac) -> None:
    """Write down a swap that was done by a line that was killed before it could say so."""
    told = f"{row.mac} for {old}: right"
    swaps = Logbook(site.folder).entries((Kind.SWAP,), macs=(str(row.mac),))
    if any(each.entry.name == row.name and each.entry.summary == told for each in swaps):
        return
    macs = {"old": {"mac": str(old)}, "new": {"mac": str(row.mac)}}
    about = {"adapter": adapter.name, "name": row.name, "mac": str(row.mac)}
    document = {**macs, "verdict": "right", "found": "later"}
    recorded(site, Kind.SWAP, told, document, **about, address=str(row.address))


def _none(row: PlannedDevice) -> int:
    nobody = NobodyNew(row, waits=False)
    if wants_json():
        print_json({"name": row.name, "swapped": False, "candidates": [], "why": str(nobody)})
    else:
        click.echo(f"{nobody}\nwait for one: portcall swap {row.name} --wait 600")
    return NO


def _several(around: Around) -> int:
    """Several could be meant, and nobody is asked."""
    if wants_json():
        told = [candidate_document(each) for each in around.candidates]
        print_json({"name": around.gone.row.name, "swapped": False, "candidates": told})
    else:
        show_candidates(around)
        note(f"say which: portcall swap {around.gone.row.name} --with MAC --yes")
    return NO
