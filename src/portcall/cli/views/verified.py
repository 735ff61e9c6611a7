"""A plan that was held against the wire: what is wrong first, then what is right, and the sum."""

from __future__ import annotations

from collections.abc import Sequence

from rich.text import Text

from portcall.cli.say import milliseconds, note
from portcall.cli.table import (
    Columns,
    Group,
    Remark,
    Tone,
    cell,
    console,
    left_out_sentence,
    print_groups,
    print_lines,
    remark_of,
)
from portcall.cli.views.devices import addresses, not_run_lines, what
from portcall.core.find.device import Device
from portcall.core.finding import as_json
from portcall.core.verify.judgement import Judgement, Verdict, Who
from portcall.jobs.verify import Verified

_TO_DO = (Verdict.ASKING, Verdict.NO_ADDRESS, Verdict.NOT_JUDGED)
"""Verdicts of what is not broken: somebody has something to do."""


def print_verified(verified: Verified, wide: bool = False) -> None:
    """Wrong rows with their reasons, rows that could not be judged, right rows, and the sum."""
    judgements = verified.judgements
    right = [each for each in judgements if each.verdict is Verdict.RIGHT]
    open_ = [each for each in judgements if each.verdict is Verdict.NOT_JUDGED]
    wrong = [each for each in judgements if each not in right and each not in open_]
    groups = [Group(rows) for rows in (wrong, open_, right) if rows]
    left_out = print_groups(_layout(), groups, _cells, _remarks, wide)
    print_lines(_unplanned(device) for device in verified.unplanned)
    for line in not_run_lines(verified.not_run):
        note(line)
    if left_out:
        note(left_out_sentence(left_out))
    console().print(_sum(verified), soft_wrap=True)


def _sum(verified: Verified) -> Text:
    """So many right, wrong and not judged: together as many as were to be judged."""
    counts = (
        (verified.right, "right", Tone.DONE),
        (verified.wrong, "wrong", Tone.BROKEN),
        (verified.not_judged, "not judged", Tone.TO_DO),
    )
    parts = [Text(f"{n} {word}", tone if n else "") for n, word, tone in counts]
    return Text(", ").join(parts if verified.not_judged else parts[:2])


def _tone(verdict: Verdict) -> Tone:
    if verdict is Verdict.RIGHT:
        return Tone.DONE
    return Tone.TO_DO if verdict in _TO_DO else Tone.BROKEN


def _remarks(judgement: Judgement) -> Sequence[Remark]:
    tone = _tone(judgement.verdict)
    tone = Tone.INFORMATION if tone is Tone.DONE else tone
    return [remark_of(finding, tone) for finding in judgement.findings]


def _unplanned(device: Device) -> Remark:
    known = addresses(device)
    where = f"at {known}" if known else "without an address"
    who = what(device)
    return Remark(f"not in the plan: {device.mac or 'no MAC'} {where}{', ' if who else ''}{who}")


def _layout() -> Columns:
    return Columns(
        "name",
        "address",
        "verdict",
        "mask",
        "ping",
        "firmware",
        "identity",
        "serial",
        drops=("ping", "firmware", "mask", "serial"),
        shrinks="identity",
    )


def _cells(judgement: Judgement) -> Sequence[Text]:
    who = judgement.identity
    return (
        cell(judgement.row.name, "bold"),
        cell(judgement.row.where),
        cell(judgement.verdict, f"bold {_tone(judgement.verdict)}"),
        cell(judgement.mask),
        cell(milliseconds(judgement.seconds)),
        cell(who.firmware if who else None),
        cell(who.product if who else None),
        cell(who.serial if who else None),
    )


def document(verified: Verified) -> dict[str, object]:
    """The same as ``verify --json`` has it."""
    return {
        "rows": [_row(judgement, verified) for judgement in verified.judgements],
        "unplanned": [_other(device) for device in verified.unplanned],
        "not_run": [{"method": each.method, "reason": each.reason} for each in verified.not_run],
        "right": verified.right,
        "wrong": verified.wrong,
        "not_judged": verified.not_judged,
        "whole_plan": verified.is_whole,
    }


def _row(judgement: Judgement, verified: Verified) -> dict[str, object]:
    row = judgement.row
    return {
        "name": row.name,
        "mac": str(row.mac) if row.mac else None,
        "address": str(row.address),
        "of": row.of or None,
        "part": str(row.part) if row.part else None,
        "verdict": judgement.verdict,
        "findings": [str(finding) for finding in judgement.findings],
        "codes": [as_json(finding) for finding in judgement.findings],
        "identity": str(judgement.identity) if judgement.identity else None,
        **_told(judgement.identity),
        "mask": judgement.mask,
        "unread": list(judgement.unread),
        "by_hand": dict(judgement.by_hand),
        "echo_ms": None if judgement.seconds is None else round(judgement.seconds * 1000, 3),
        "other_programs_leave_by": verified.other_ways.get(row.address),
    }


def _told(who: Who | None) -> dict[str, str | None]:
    return {
        "product": who.product if who else None,
        "serial": who.serial if who else None,
        "firmware": who.firmware if who else None,
    }


def _other(device: Device) -> dict[str, object]:
    return {
        "mac": str(device.mac) if device.mac else None,
        "addresses": [str(address) for address in device.addresses],
        "what": what(device) or None,
    }
