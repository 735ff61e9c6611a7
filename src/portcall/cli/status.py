"""``portcall status``."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import UTC, datetime

import click
from rich.text import Text

from portcall.cli.main import NO, YES
from portcall.cli.options import json_option, plan_that_is_there
from portcall.cli.say import ago, note, print_json, wants_json
from portcall.cli.table import (
    Columns,
    Remark,
    Tone,
    cell,
    left_out_sentence,
    print_lines,
    print_rows,
    wide_option,
)
from portcall.core.counted import counted, named
from portcall.core.finding import Line, as_json
from portcall.core.record.standing import DeviceState, RowStanding, Standing
from portcall.core.trouble import BadInput
from portcall.jobs.record.reading import how_far
from portcall.site.folder import this_site
from portcall.site.logbook.store import Logbook
from portcall.site.spreadsheet import csv_text

_MOST_NAMED = 4
_TONES = {
    DeviceState.RIGHT: Tone.DONE,
    DeviceState.WRONG: Tone.BROKEN,
    DeviceState.NEVER_SEEN: Tone.TO_DO,
}


@click.command("status")
@click.option("--csv", "as_csv", is_flag=True, help="Print CSV instead.")
@wide_option
@json_option
def status_command(as_csv: bool, wide: bool) -> int:
    """Say how far the site is, from its logbook; nothing is sent.

    Each planned device with what was last known of it, and how old that is. Ends with 0 when every
    one is verified right, nothing was done to it since, and nothing else is open: a power cycle
    that it did not stand, an address that it was given and does not hold, devices on the wire that
    nobody planned.

    \b
    portcall status
    portcall status --csv > status.csv
    """
    if as_csv and wants_json():
        raise BadInput("--csv or --json: choose one")
    site = this_site()
    plan = plan_that_is_there(site)
    found = how_far(Logbook(site.folder), plan)
    now = datetime.now(UTC)
    if wants_json():
        print_json(_document(found))
    elif as_csv:
        heading = ["name", "mac", "address", "group", "state", "since", "verified", "detail"]
        rows = [heading, *(_texts(each) for each in found.rows)]
        click.echo(csv_text(rows, ",", mark=False).decode(), nl=False)
    else:
        _print(found, now, wide)
    return YES if found.is_done else NO


def _print(found: Standing, now: datetime, wide: bool) -> None:
    columns = Columns(
        *("name", "address", "state", "since", "group", "kept", "power cycle"),
        drops=("since", "group", "kept", "power cycle"),
    )
    below = _below if found.is_looked_at else lambda each: ()
    left_out = print_rows(columns, found.rows, lambda each: _cells(each, now), below, wide)
    if left_out:
        note(left_out_sentence(left_out))
    whole = f"{found.right} of {len(found.rows)} verified right"
    groups = [f"{name} {right} of {count}" for name, (right, count) in found.groups.items() if name]
    told = f"{whole}; {', '.join(groups)}" if groups else whole
    lines = [Remark(told, Tone.DONE if found.is_done else Tone.TO_DO)]
    if not found.is_looked_at:
        lines.append(Remark("nobody has looked at this plant yet", Tone.TO_DO, Line("find")))
    if found.unplanned:
        strangers = counted(len(found.unplanned), "device")
        shown = named(found.unplanned, _MOST_NAMED)
        lines.append(Remark(f"on the wire and not in the plan: {strangers}: {shown}", Tone.TO_DO))
    print_lines(lines)


def _cells(each: RowStanding, now: datetime) -> Sequence[Text]:
    return (
        cell(each.row.name, "bold"),
        cell(each.row.where),
        cell(each.state, _TONES.get(each.state, "")),
        cell(_age(each.since, now)),
        cell(each.row.group),
        cell(_age(each.kept, now)),
        cell(_age(each.proved, now)),
    )


def _below(each: RowStanding) -> Sequence[Remark]:
    """The problem of a row, and the line to type next for it."""
    because = each.open_because if each.is_right else None
    told = because.sentence if because is not None else each.detail
    tone = Tone.TO_DO if each.is_right else Tone.INFORMATION
    tone = Tone.BROKEN if each.state is DeviceState.WRONG else tone
    is_told = not each.is_done and (told or each.next_line)
    return [Remark(told, tone, each.next_line)] if is_told else ()


def _age(at: datetime | None, now: datetime) -> str | None:
    return None if at is None else ago(max((now - at).total_seconds(), 0.0))


def _texts(each: RowStanding) -> list[str]:
    row = each.row
    return [
        row.name,
        str(row.mac or ""),
        str(row.address),
        row.group,
        each.state,
        _text(each.since),
        _text(each.verified),
        each.detail,
    ]


def _text(at: datetime | None) -> str:
    return "" if at is None else at.isoformat(timespec="seconds")


def _why(each: RowStanding) -> dict[str, object]:
    """Why a row is open, or what is to be known of its state: in words, and as values."""
    because = each.open_because if each.is_right else None
    told = as_json(because) if because is not None else {}
    return {
        "open": because.sentence if because is not None else None,
        "detail": each.detail or None,
        "code": told.get("code", each.code) or None,
        "values": told.get("values", each.values),
    }


def _document(found: Standing) -> dict[str, object]:
    return {
        "rows": [
            {
                "name": each.row.name,
                "mac": str(each.row.mac) if each.row.mac else None,
                "address": str(each.row.address),
                "of": each.row.of or None,
                "part": str(each.row.part) if each.row.part else None,
                "group": each.row.group or None,
                "state": each.state,
                "since": _text(each.since) or None,
                "verified": _text(each.verified) or None,
                "kept": _text(each.kept) or None,
                "proved": _text(each.proved) or None,
                "is_right": each.is_right,
                **_why(each),
                "next": str(each.next_line) if each.next_line else None,
            }
            for each in found.rows
        ],
        "right": found.right,
        "unplanned": list(found.unplanned),
        "groups": {name: {"right": r, "rows": n} for name, (r, n) in found.groups.items() if name},
    }
