"""``portcall restore``."""

from __future__ import annotations

from ipaddress import IPv4Interface

import click

from portcall.cli.main import NO, YES
from portcall.cli.show import json_option, print_json
from portcall.core.adapter import Adapter
from portcall.host.adapters import read_adapters, remove_address
from portcall.host.privilege import Capability, require
from portcall.site.journal import OpenMatch, close, open_matches


@click.command("restore")
@json_option
def restore_command(as_json: bool) -> int:
    """Put every adapter back as it was before match: takes off what match added, nothing else.

    Works after a crash or a reboot, and does no harm when repeated.
    """
    matches = open_matches()
    if matches:
        require(Capability.NET_ADMIN)
    # The newest first: what was there before it is then what the older ones left.
    results = [_restore(entry) for entry in reversed(matches)]
    if as_json:
        print_json({"restored": [document for document, _ in results]})
    elif not results:
        click.echo("nothing is open: no adapter was matched, or all are restored")
    for _, sentence in results:
        if not as_json:
            click.echo(sentence)
    return YES if all(document["done"] for document, _ in results) else NO


def _restore(entry: OpenMatch) -> tuple[dict[str, object], str]:
    def result(done: bool, was_there: bool, now: tuple[IPv4Interface, ...]) -> dict[str, object]:
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
    was_there = remove_address(adapter, entry.added)
    close(entry)
    after = _find(entry)
    now = after.interfaces if after else ()
    sentence = f"{entry.adapter}: {entry.added} " + ("removed" if was_there else "was gone already")
    if set(now) == set(entry.before):
        sentence += ", as it was before: " + (_listed(now) or "no address")
    else:
        sentence += (
            f"; others changed it meanwhile: before {_listed(entry.before) or 'no address'}, "
            f"now {_listed(now) or 'no address'}"
        )
    return result(True, was_there, now), sentence


def _find(entry: OpenMatch) -> Adapter | None:
    return next(
        (a for a in read_adapters() if a.name == entry.adapter and a.mac == entry.mac), None
    )


def _listed(interfaces: tuple[IPv4Interface, ...]) -> str:
    return ", ".join(str(own) for own in interfaces)
