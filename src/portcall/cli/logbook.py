"""``portcall logbook``."""

from __future__ import annotations

import os
from collections.abc import Iterator, Sequence
from dataclasses import replace
from datetime import datetime
from pathlib import Path

import click
from rich.text import Text

from portcall.cli.main import NO, YES
from portcall.cli.options import json_option
from portcall.cli.say import duration, note, print_json, wants_json, zone_words
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
from portcall.cli.views.plan_others import conflict_words, other_document
from portcall.core.counted import counted
from portcall.core.plain import plain
from portcall.core.plan.targets import parse_device
from portcall.core.record.chain import HARMLESS
from portcall.core.record.entry import Kind
from portcall.core.record.others import OtherValue
from portcall.core.trouble import BadInput, Trouble
from portcall.jobs.record.plan_history import values_of_others
from portcall.jobs.record.reading import parse_time
from portcall.site.files import write_whole
from portcall.site.folder import Site, this_site
from portcall.site.logbook.checking import CheckedBook, CheckedFile, check_logbook
from portcall.site.logbook.heard import listen
from portcall.site.logbook.importing import import_lines
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
_MOST_DAMAGE = _MOST_CONFLICTS = 5
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
    site.notice_plan()
    book = Logbook(site.folder)
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
    note(f"times are in {zone_words()}")
    if any(each.entry.misdated for each in found):
        note("? is a time of a wrong clock: the entry was written when those around it were")
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
    site.notice_plan()
    book = Logbook(site.folder)
    found = _found(book, site, device, since, kinds)
    if suffix == ".csv":
        rows = [_TEXTS, *([str(_short(each)[key]) for key in _TEXTS] for each in found)]
        write_whole(file, csv_text(rows, ",", mark=False))
    else:
        whole = (replace(each.entry, body=body) for each, body in book.with_bodies(found))
        write_whole(file, "".join(f"{each.line}\n" for each in whole).encode())
    note(f"{file}: {counted(len(found), 'entry', 'entries')}")
    return YES


@logbook_command.command("import")
@click.argument("file", type=click.Path(exists=True, dir_okay=False, path_type=Path))
def import_command(file: Path) -> int:
    """Add what is in FILE.jsonl, which export wrote, as far as it is not here.

    Entries stay what they were: with their own time, person and workstation.

    \b
    portcall logbook import logbook.jsonl
    portcall logbook import ../laptop-2/logbook.jsonl
    """
    site = this_site()
    read = import_lines(site.folder, file)
    note(f"{file}: {counted(read.added, 'entry', 'entries')} added, {read.known:,} here already")
    for sentence in read.told:
        note(f"{file}: {sentence}")
    return NO if read.told else YES


@logbook_command.command("check")
@json_option
def check_command() -> int:
    """Read the whole logbook: is each line as it was written, and is none missing?

    Each line has the digest of the one before it, so a line that was changed, removed or added is
    seen. Not seen are changes by somebody who wrote all digests behind them anew, unless another
    laptop or a record has them: "portcall logbook sync", "portcall report --check". Ends with 0
    when all is whole.

    \b
    portcall logbook check
    portcall logbook check --json
    """
    site = this_site()
    # All of it is told below.
    listen(lambda folder, sentences: None)
    site.notice_plan()
    checked = check_logbook(site.folder)
    if wants_json():
        files = [
            {
                **{key: value for key, value in plain(each).items() if key != "damage"},
                "is_whole": each.is_whole,
                "damage": [{**plain(e.damage), "sentence": e.damage.sentence} for e in each.damage],
            }
            for each in checked.files
        ]
        whole = {"is_whole": checked.is_whole, "files": files, "findings": checked.findings}
        print_json(whole)
        return YES if checked.is_whole else NO
    if not checked.files:
        note("nothing was written here yet")
        return YES
    columns = Columns("file", "lines", "entries", "from", "to", "state", shrinks="state")
    print_rows(columns, checked.files, _checked_cells, wide=True)
    note(f"times are in {zone_words()}")
    print_lines([Remark(each, Tone.BROKEN) for each in _check_sentences(checked)])
    if not checked.is_whole:
        note("what another laptop of the team has whole is put right by: portcall logbook sync")
    return YES if checked.is_whole else NO


def _checked_cells(each: CheckedFile) -> Sequence[Text]:
    harmful = [one for one in each.damage if one.damage.kind not in HARMLESS]
    state = "whole" if each.is_whole else f"damaged from line {harmful[0].damage.line} on"
    return (
        cell(each.file),
        cell(each.lines),
        cell(each.entries),
        cell(_time(each.first)),
        cell(_time(each.last)),
        cell(state, "" if each.is_whole else "red"),
    )


def _check_sentences(checked: CheckedBook) -> Iterator[str]:
    for file in checked.files:
        for damaged in file.damage[:_MOST_DAMAGE]:
            yield str(damaged)
        if len(file.damage) > _MOST_DAMAGE:
            yield f"{file.file}: and {len(file.damage) - _MOST_DAMAGE:,} more such lines"
        if file.misdated:
            many = counted(file.misdated, "entry", "entries")
            yield f"{file.file}: {many} dated by a wrong clock: nothing rests on them"
        for line, put_on in file.clock_set[:_MOST_DAMAGE]:
            way = "on" if put_on > 0 else "back"
            yield (
                f"{file.file}: the clock was put {way} by {duration(abs(put_on))} before line "
                f"{line}: which of the two was wrong, the lines do not tell"
            )
    yield from checked.findings


@logbook_command.command("sync")
@click.argument("url", required=False, metavar="[URL]")
@click.option(
    "--same-as",
    metavar="IDENTITY",
    help="This site is that one in the shared logbook; the beginning of its identity will do.",
)
@click.option(
    "--new", "is_new", is_flag=True, help="This site is another one than that of the same name."
)
@json_option
def sync_command(url: str | None, same_as: str | None, is_new: bool) -> int:
    """Copy entries to and from the logbook that the team shares, a PostgreSQL database.

    URL is postgresql://USER@HOST/DATABASE; without it, that of PORTCALL_LOGBOOK or of site.toml.
    The password comes from ~/.pgpass or PGPASSWORD. Any number of times, from any number of
    laptops; afterwards all have the same. Broken off, it goes on where it was. What differs, is
    damaged or came back is said; then it ends with 1.

    \b
    portcall logbook sync
    portcall logbook sync postgresql://team@record/portcall
    """
    from portcall.site.logbook.shared import NEW, sync
    from portcall.site.logbook.shared_address import check_url

    site = this_site()
    said = url or os.environ.get("PORTCALL_LOGBOOK")
    if not said and not site.logbook:
        raise BadInput(
            "no shared logbook is named: by URL, PORTCALL_LOGBOOK, or logbook in site.toml"
        )
    if site.label is None or site.folder is None:
        raise BadInput("this folder is no site, so nobody could tell its entries from others'")
    if same_as and is_new:
        raise BadInput("--same-as and --new: it is one or the other")
    address = check_url(said or site.logbook, own=bool(said))
    site.notice_plan()
    synced = sync(site.folder, site.label, address, NEW if is_new else same_as or "")
    if not wants_json():
        click.echo(str(synced))
        for sentence in synced.told:
            note(sentence)
    others: list[OtherValue] | None = None
    try:
        others = values_of_others(site)
    except Trouble as trouble:
        note(f"what others changed in the plan is not told: {trouble}")
    if wants_json():
        whole = {"sent": synced.sent, "received": synced.received, "told": synced.told}
        documents = None if others is None else [other_document(each) for each in others]
        print_json({**whole, "others": documents})
    elif others:
        _print_others(others)
    return NO if synced.told else YES


def _print_others(others: Sequence[OtherValue]) -> None:
    conflicts = [each for each in others if each.is_conflict]
    for each in conflicts[:_MOST_CONFLICTS]:
        note(conflict_words(each))
    rows = counted(len({each.name for each in others}), "row")
    note(f"others changed {rows} of the plan otherwise than here: portcall plan others")


def _found(
    book: Logbook, site: Site, device: str | None, since: str | None, kinds: Sequence[str]
) -> list[Numbered]:
    start = parse_time(since).begins if since else None
    found = book.entries([Kind(each) for each in kinds], start, numbered=True)
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
        cell(f"{_time(entry.at)}{' ?' if entry.misdated else ''}"),
        cell(entry.kind, "bold"),
        cell(entry.name),
        cell(entry.summary),
        cell(entry.mac),
        cell(entry.address),
        cell(by),
        cell(entry.adapter),
    )


def _time(at: datetime | None) -> str:
    """A time by this computer's clock."""
    return "" if at is None else f"{at.astimezone():%Y-%m-%d %H:%M:%S}"
