"""``portcall restore``."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime, timedelta

import click

from portcall.cli.main import NO, YES
from portcall.cli.options import json_option
from portcall.cli.recording import recorded
from portcall.cli.say import moment_words, note, print_json, wants_json
from portcall.core.record.entry import Kind
from portcall.jobs.workstation.restore import Restored, listed, restore_all
from portcall.site.folder import this_site
from portcall.site.matches import OpenMatch, open_matches, set_aside


@click.command("restore")
@click.option("--show", is_flag=True, help="Only list what is open.")
@json_option
def restore_command(show: bool) -> int:
    """Put every adapter back as it was before match: what match added goes, what it took off comes.

    Works after a crash or a reboot, when an adapter was pulled out and is back, in any order, any
    number of times. What others changed meanwhile stays, and is said. Ends with 0 when nothing is
    left to put back, and every record of a match could be believed.

    \b
    portcall restore --show
    portcall restore
    """
    not_believed = set_aside()
    for sentence in not_believed:
        note(sentence)
    if show:
        return _show(open_matches())
    results = restore_all()
    for result in results:
        told = str(result)
        body = _document(result)
        recorded(this_site(), Kind.MATCH, told, body, adapter=result.entry.adapter)
    if wants_json():
        print_json({"restored": [_document(result) for result in results]})
    elif not results and not not_believed:
        click.echo("nothing is open: no adapter was matched, or all are restored")
    else:
        for result in results:
            click.echo(str(result))
    return YES if all(result.done for result in results) and not not_believed else NO


def _document(result: Restored) -> dict[str, object]:
    return {
        "adapter": result.entry.adapter,
        "address": str(result.entry.added),
        "done": result.done,
        "was_in_force": result.was_in_force,
        "now": [str(own) for own in result.now],
        "left": [str(each) for each in result.left],
    }


def _show(matches: Sequence[OpenMatch]) -> int:
    if wants_json():
        entries = [
            {
                "adapter": entry.adapter,
                "address": str(entry.added),
                "since": entry.since.at.isoformat(),
                "before": [str(own) for own in entry.before],
                "taken_off": bool(entry.taken_off),
                "lease_seconds_left": _seconds_left(entry),
            }
            for entry in matches
        ]
        print_json({"open": entries})
        return YES
    for entry in matches:
        was = f"before: {listed(entry.before) or 'no address'}"
        off = ", taken off meanwhile" if entry.taken_off else ""
        click.echo(
            f"{entry.adapter}: {entry.added} since {moment_words(entry.since.at)}, "
            f"{was}{off}{_lease_words(entry)}"
        )
    if not matches:
        click.echo("nothing is open")
    return YES


def _seconds_left(entry: OpenMatch) -> int | None:
    """The time left of a match's lease; None without a lease, and for one without end."""
    lease = entry.lease
    return None if lease is None or lease.seconds is None else max(int(lease.seconds_left), 0)


def _lease_words(entry: OpenMatch) -> str:
    lease, left = entry.lease, _seconds_left(entry)
    if lease is None or left is None:
        return ""
    if not left:
        return ", its lease has ended"
    return f", its lease ends at {datetime.now() + timedelta(seconds=left):%H:%M}"
