"""``portcall logbook``."""

from __future__ import annotations

import os
from collections.abc import Iterator, Sequence
from dataclasses import replace
from pathlib import Path

import click
from rich.text import Text

from portcall.cli.main import NO, YES
from portcall.cli.options import json_option
from portcall.cli.say import note, print_json, wants_json
from portcall.cli.table import Columns, cell, left_out_sentence, print_rows, wide_option
from portcall.core.counted import counted
from portcall.core.plan.targets import parse_device
from portcall.core.record.entry import Kind
from portcall.core.trouble import BadInput
from portcall.jobs.record.reading import parse_time
from portcall.site.files import write_whole
from portcall.site.folder import Site, this_site
from portcall.site.logbook.store import Logbook, Numbered
from portcall.site.spreadsheet import csv_text

_device_option = click.option("--device", metavar="NAME|MAC", help="Only what is about this one.")
_since_option = click.option(
    "--since", metavar="TIME", help='From then on: yesterday, "2026-11-20 14:00".'
)
_kind_option = click.option(
    "--kind",
    "kinds",
    multiple=True,
    type=click.Choice([each.value for each in Kind]),
    help="Only entries of this kind; may be repeated.",
)
_TEXTS = (
    *("number", "at", "kind", "workstation", "person", "adapter"),
    *("name", "mac", "address", "summary", "command"),
)


@click.group("logbook")
def logbook_command() -> None:
    """The logbook: what was seen and done at this site, by whom, when, and with which line."""


@logbook_command.command("show")
@_device_option
@_since_option
@_kind_option
@wide_option
@json_option
def show_command(device: str | None, since: str | None, kinds: tuple[str, ...], wide: bool) -> int:
    """Tell the story of a device, or of a time.

    \b
    portcall logbook show --device fan-drive-1
    portcall logbook show --since "2026-11-20 14:00" --kind setting
    """
    site = this_site()
    book = opened(site)
    found = _found(book, site, device, since, kinds)
    if wants_json():
        print_json({"entries": list(_documents(book, found))})
        return YES
    if not found:
        note("the logbook has nothing of that")
        return NO
    columns = Columns(
        *("no.", "when", "kind", "name", "what", "mac", "address", "by", "adapter"),
        drops=("name", "mac", "by", "address", "adapter"),
        shrinks="what",
    )
    left_out = print_rows(columns, found, _cells, wide=wide)
    if left_out:
        note(left_out_sentence(left_out))
    return YES


@logbook_command.command("export")
@click.argument("file", type=click.Path(dir_okay=False, path_type=Path))
@_device_option
@_since_option
@_kind_option
@click.option("--overwrite", is_flag=True, help="Write over a FILE that is there.")
def export_command(
    file: Path, device: str | None, since: str | None, kinds: tuple[str, ...], overwrite: bool
) -> int:
    """Write entries to FILE.jsonl, whole, or to FILE.csv, in short.

    \b
    portcall logbook export logbook.jsonl
    portcall logbook export drive.csv --device fan-drive-1
    """
    suffix = file.suffix.lower()
    if suffix not in (".jsonl", ".csv"):
        raise BadInput(f"{file}: ends in neither .jsonl nor .csv, so what is to be written?")
    if file.exists() and not overwrite:
        raise BadInput(f"{file}: is there already", "another name, or --overwrite")
    site = this_site()
    book = opened(site)
    found = _found(book, site, device, since, kinds)
    if suffix == ".csv":
        rows = [_TEXTS, *([str(_short(each)[key]) for key in _TEXTS] for each in found)]
        write_whole(file, csv_text(rows, ",", mark=False))
    else:
        whole = (replace(each.entry, body=body) for each, body in book.with_bodies(found))
        write_whole(file, "".join(f"{each.line}\n" for each in whole).encode())
    note(f"{file}: {counted(len(found), 'entry', 'entries')}")
    return YES


@logbook_command.command("sync")
@click.argument("url", required=False, metavar="[URL]")
@json_option
def sync_command(url: str | None) -> int:
    """Copy entries to and from the logbook that the team shares, a PostgreSQL database.

    URL is postgresql://USER@HOST/DATABASE; without it, that of PORTCALL_LOGBOOK or of site.toml.
    The password comes from ~/.pgpass or PGPASSWORD. Any number of times, from any number of
    laptops; afterwards all have the same. Broken off, it goes on where it was.

    \b
    portcall logbook sync
    portcall logbook sync postgresql://team@record/portcall
    """
    from portcall.site.logbook.shared import check_url, sync

    site = this_site()
    said = url or os.environ.get("PORTCALL_LOGBOOK")
    if not said and not site.logbook:
        raise BadInput(
            "no shared logbook is named: by URL, PORTCALL_LOGBOOK, or logbook in site.toml"
        )
    if site.label is None:
        raise BadInput("this folder is no site, so nobody could tell its entries from others'")
    address = check_url(said or site.logbook, own=bool(said))
    synced = sync(opened(site), site.label, address)
    if wants_json():
        print_json({"sent": synced.sent, "received": synced.received})
    else:
        click.echo(str(synced))
    return YES


def opened(site: Site) -> Logbook:
    """The site's logbook; says when a damaged one was set aside. Raises NotPossibleHere."""
    book = Logbook(site.folder)
    if book.set_aside is not None:
        note(f"the logbook was damaged; it is kept as {book.set_aside}, and a new one is begun")
    return book


def _found(
    book: Logbook, site: Site, device: str | None, since: str | None, kinds: Sequence[str]
) -> list[Numbered]:
    start = parse_time(since).begins if since else None
    found = book.entries([Kind(each) for each in kinds], start)
    if device is None:
        return found
    meant = parse_device(device, site.plan(), parts=True)
    mac = str(meant.mac) if meant.mac else None
    name = meant.row.name if meant.row else None
    told = (each.of(name, mac, body) for each, body in book.with_bodies(found))
    return [each for each in told if each is not None]


def _documents(book: Logbook, found: Sequence[Numbered]) -> Iterator[dict[str, object]]:
    """Entries in full."""
    for each, body in book.with_bodies(found):
        yield {**_short(each), "body": dict(body)}


def _short(each: Numbered) -> dict[str, object]:
    """An entry without what it holds."""
    return {"number": each.number, **each.entry.document}


def _cells(each: Numbered) -> Sequence[Text]:
    entry = each.entry
    by = f"{entry.person}@{entry.workstation}" if entry.person else ""
    return (
        cell(each.number),
        cell(f"{entry.at.astimezone():%Y-%m-%d %H:%M:%S}"),
        cell(entry.kind, "bold"),
        cell(entry.name),
        cell(entry.summary),
        cell(entry.mac),
        cell(entry.address),
        cell(by),
        cell(entry.adapter),
    )
