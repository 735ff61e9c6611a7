"""``portcall restore``."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import UTC, datetime
from ipaddress import IPv4Interface

import click

from portcall.cli.main import NO, YES
from portcall.cli.say import json_option, note, print_json
from portcall.core.adapters.adapter import Adapter
from portcall.host.adapters import read_adapters
from portcall.host.addresses import put_back, remove_alone
from portcall.host.privilege import Privilege, require
from portcall.site.journal import OpenMatch, close, open_matches, unreadable


@click.command("restore")
@click.option("--show", is_flag=True, help="Only list what is open.")
@json_option
def restore_command(show: bool, as_json: bool) -> int:
    """Put every adapter back as it was before match: what match added goes, what it took off comes.

    Works after a crash or a reboot, when an adapter was pulled out and is back, in any order, any
    number of times. What others changed meanwhile stays, and is said.
    """
    matches = open_matches()
    for path in unreadable():
        note(f"{path}: cannot be read, and is left alone; delete it when its adapter is right")
    if show:
        return _show(matches, as_json)
    if matches:
        require(Privilege.NET_ADMIN, instead="portcall restore --show lists what is open")
    # The newest first: what was there before it is then what the older ones left.
    results = [restore_one(entry) for entry in reversed(matches)]
    if as_json:
        print_json({"restored": [document for document, _ in results]})
    elif not results:
        click.echo("nothing is open: no adapter was matched, or all are restored")
    for _, sentence in results:
        if not as_json:
            click.echo(sentence)
    return YES if all(document["done"] for document, _ in results) else NO


def _show(matches: Sequence[OpenMatch], as_json: bool) -> int:
    if as_json:
        entries = [
            {
                "adapter": entry.adapter,
                "address": str(entry.added),
                "since": entry.at.isoformat(),
                "before": [str(own) for own in entry.before],
                "taken_off": bool(entry.taken_off),
            }
            for entry in matches
        ]
        print_json({"open": entries})
        return YES
    for entry in matches:
        was = f"before: {_listed(entry.before) or 'no address'}"
        off = ", taken off meanwhile" if entry.taken_off else ""
        click.echo(
            f"{entry.adapter}: {entry.added} since {entry.at.astimezone():%d %b %H:%M}, {was}{off}"
        )
    if not matches:
        click.echo("nothing is open")
    return YES


def restore_one(entry: OpenMatch) -> tuple[dict[str, object], str]:
    """Undo one match: what came of it, as JSON has it, and in a sentence."""

    def result(done: bool, was_there: bool, now: Sequence[IPv4Interface]) -> dict[str, object]:
        return {
            "adapter": entry.adapter,
            "address": str(entry.added),
            "done": done,
            "was_in_force": was_there,
            "now": [str(own) for own in now],
        }

    adapter = _find(entry)
    if adapter is None:
        sentence = (
            f"{entry.adapter} ({entry.mac}) is not here; what it was given went with it. "
            "Plug it in and run restore again, or leave it"
        )
        return result(False, False, ()), sentence
    was_there = remove_alone(adapter, entry.added)
    elapsed = (datetime.now(UTC) - entry.at).total_seconds()
    ended = put_back(adapter, entry.taken_off, max(elapsed, 0.0))
    close(entry)
    after = _find(entry)
    now = after.interfaces if after else ()
    sentence = f"{adapter.name}: {entry.added} " + ("removed" if was_there else "was gone already")
    if now == entry.before:
        sentence += ", as it was before: " + (_listed(now) or "no address")
    elif ended:
        sentence += f"; the lease of {_listed(ended)} has ended meanwhile: ask for a new one"
    else:
        sentence += (
            f"; others changed it meanwhile: before {_listed(entry.before) or 'no address'}, "
            f"now {_listed(now) or 'no address'}"
        )
    return result(True, was_there, now), sentence


def _find(entry: OpenMatch) -> Adapter | None:
    """The adapter as it is now: by its MAC, since it may have come back under another name."""
    same = [adapter for adapter in read_adapters() if adapter.mac == entry.mac]
    return next((a for a in same if a.name == entry.adapter), same[0] if same else None)


def _listed(interfaces: Sequence[IPv4Interface]) -> str:
    return ", ".join(str(own) for own in interfaces)
