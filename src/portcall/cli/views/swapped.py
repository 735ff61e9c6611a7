"""``swap``: who is gone and who is new, side by side; and how it went."""

from __future__ import annotations

from collections.abc import Sequence

import click
from rich.text import Text

from portcall.cli.say import note
from portcall.cli.table import Columns, Remark, Tone, cell, print_lines, print_rows, remark_of
from portcall.core.assign.event import Event, EventKind
from portcall.core.finding import Finding, Line, as_json
from portcall.core.swap import IDENTITY, Candidate
from portcall.core.verify.judgement import Verdict
from portcall.jobs.swap.looking import Around
from portcall.jobs.swap.swap import Swapped
from portcall.site.plan_file import PLAN_FILE

_NOT_ASKED = "not asked yet: it has no address"


def show_both(around: Around, new: Candidate) -> None:
    """The device that is gone and the new one, side by side."""
    gone = around.gone
    unknown = "" if new.device.addresses else _NOT_ASKED
    lines: list[tuple[str, str, str]] = [("MAC", str(gone.mac), str(new.mac))]
    lines += [
        (field.value, gone.said.get(field, ""), new.said.get(field, unknown)) for field in IDENTITY
    ]
    lines.append(("found", "not heard", new.why))
    shown = [line for line in lines if line[1] or line[2]]
    print_rows(Columns("", "old", "new"), shown, _both)
    remarks = [new.doubt] if new.doubt else []
    if new.alike is False:
        remarks.append("it is not like the old one")
    others = [each for each in around.candidates if each is not new]
    remarks += [f"not meant, as it seems: {each.mac}, {each.why}" for each in others]
    print_lines(Remark(remark, Tone.TO_DO) for remark in remarks)


def _both(line: tuple[str, str, str]) -> Sequence[Text]:
    what, old, new = line
    is_asked = new != _NOT_ASKED
    differs = old and new and old != new and what in ("maker", "product", "firmware")
    return cell(what), cell(old), cell(new, Tone.TO_DO if differs and is_asked else "")


def show_candidates(around: Around) -> None:
    """All that may be the new one, numbered."""
    rows = list(enumerate(around.candidates, 1))
    print_rows(Columns("", "mac", "maker", "product", "serial", "firmware", "found"), rows, _cells)


def _cells(row: tuple[int, Candidate]) -> Sequence[Text]:
    number, each = row
    return (
        cell(number, "bold"),
        cell(each.mac),
        *(cell(each.said.get(field)) for field in IDENTITY),
        cell(each.why),
    )


def ask_which(around: Around) -> Candidate | None:
    """Ask which one is meant; None for none of them. Raises click.Abort."""
    show_candidates(around)
    count = len(around.candidates)
    row = around.gone.row
    while True:
        said: str = click.prompt(
            f"which one is {row.name} now? 1 to {count}; Enter: none",
            default="",
            show_default=False,
            err=True,
        )
        if not said.strip():
            return None
        if said.strip().isdecimal() and 1 <= int(said) <= count:
            return around.candidates[int(said) - 1]


_TOLD = {
    EventKind.ASSIGNED: "is given {address} by {protocol}",
    EventKind.ANSWERING: "answers at {address}",
    EventKind.DECLINED: "declines {address}: {detail}",
    EventKind.REFUSED: "is refused {address}: {detail}",
    EventKind.NOTICE: "{detail}",
}


def tell_swap(fact: object) -> None:
    """Print the events meanwhile; of requests only those of the new device."""
    if not isinstance(fact, Event):
        note(fact)
        return
    words = _TOLD.get(fact.kind)
    if words is not None and (fact.name is not None or fact.kind is EventKind.NOTICE):
        said = words.format(address=fact.address, protocol=fact.protocol, detail=fact.detail)
        note(said if fact.mac is None else f"{fact.mac} {said}")


def say_swapped(swapped: Swapped) -> None:
    """How it went: the verdict, what the plan has now, and what to know of the new one."""
    print_lines(_lines(swapped))


def _lines(swapped: Swapped) -> list[Remark]:
    row, outcome, judgement = swapped.row, swapped.outcome, swapped.judgement
    lines = []
    if judgement is None:
        first = outcome.findings[0]
        return [Remark(f"{row.name}: not done: {first.sentence}", Tone.BROKEN, first.line)]
    right = judgement.verdict is Verdict.RIGHT
    verdict = f"{row.name}: {judgement.verdict}, {swapped.seconds:.1f} s after Enter"
    verdict += f": {row.mac} at {row.interface}"
    lines.append(Remark(verdict, Tone.DONE if right and outcome.done else Tone.BROKEN))
    how = f"by {outcome.by}" if outcome.by else "set by hand"
    if outcome.done:
        lines.append(Remark(f"    holds its address, {how}"))
    else:
        lines.append(Remark("    does not hold its address when the power goes", Tone.BROKEN))
    lines += [_further(each) for each in outcome.findings]
    if not right:
        # Do not repeat a remark that was already made of the old device.
        said = {(each.values["column"], each.values["value"]) for each in swapped.unlike}
        lines += [
            _further(each, Tone.BROKEN)
            for each in judgement.findings
            if (each.values.get("column"), each.values.get("value")) not in said
        ]
    lines += [_further(each, Tone.TO_DO) for each in swapped.unlike]
    if swapped.planned:
        lines.append(Remark(f"{PLAN_FILE}: mac is {row.mac}, was {swapped.old}", Tone.DONE))
    else:
        again = f"{PLAN_FILE} is as it was; try again"
        lines.append(Remark(again, Tone.TO_DO, Line("swap", row.name)))
    return lines


def _further(finding: Finding, tone: Tone = Tone.INFORMATION) -> Remark:
    return remark_of(finding, tone, mark="    ")


def candidate_document(each: Candidate) -> dict[str, object]:
    """A candidate as JSON."""
    return {
        "mac": str(each.mac),
        "addresses": [str(address) for address in each.device.addresses],
        **{field.value: each.said.get(field) for field in IDENTITY},
        "why": each.why,
        "alike": each.alike,
    }


def swapped_document(swapped: Swapped, around: Around, new: Candidate) -> dict[str, object]:
    """The result of a swap as JSON."""
    gone = around.gone
    judgement = swapped.judgement
    findings = (*swapped.outcome.findings, *(judgement.findings if judgement else ()))
    old = {"mac": str(gone.mac), **{field.value: gone.said.get(field) for field in IDENTITY}}
    return {
        "name": swapped.row.name,
        "address": str(swapped.row.address),
        "old": old,
        "new": candidate_document(new),
        "swapped": swapped.planned,
        "kept": swapped.outcome.done,
        "by": swapped.outcome.by or None,
        "verdict": judgement.verdict if judgement else None,
        "findings": [str(finding) for finding in findings],
        "codes": [as_json(finding) for finding in findings],
        "unlike": [str(each) for each in swapped.unlike],
        "unlike_codes": [as_json(each) for each in swapped.unlike],
        "seconds": round(swapped.seconds, 3),
    }
