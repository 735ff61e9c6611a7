"""``portcall note``."""

from __future__ import annotations

from pathlib import Path

import click

from portcall.cli.main import YES
from portcall.cli.options import json_option, plan_if_sound, target_meant
from portcall.cli.say import print_json, wants_json
from portcall.cli.table import Remark, Tone, print_lines
from portcall.core.counted import counted
from portcall.core.plan.targets import parse_noted
from portcall.core.printable import printable
from portcall.core.record.entry import Kind
from portcall.core.record.notes import DONE, LONGEST_NOTE, OPEN, NotedFile, note_body, notes_in
from portcall.core.report.sections import still_noted
from portcall.core.trouble import BadInput
from portcall.jobs.record.by import By
from portcall.site.folder import Site, this_site
from portcall.site.logbook.kept_files import keep_file, read_file
from portcall.site.logbook.writing import new_entry, write_entries

_MOST_FILES = 8


@click.command("note")
@click.argument("name")
@click.argument("text", required=False, default="")
@click.option(
    "--file",
    "paths",
    multiple=True,
    metavar="PICTURE",
    type=click.Path(dir_okay=False, path_type=Path),
    help="A picture or a file to keep with it, up to 16 MB; may be repeated.",
)
@click.option("--open", "flag", flag_value=OPEN, help="It is an open point, until it is done.")
@click.option("--done", "flag", flag_value=DONE, help="The open point of this TEXT is done.")
@json_option
def note_command(name: str, text: str, paths: tuple[Path, ...], flag: str | None) -> int:
    """Write down what you did or saw at a device, with who and when.

    NAME is a planned device, a part of one, a MAC or an address. The note goes into the logbook,
    the files beside it; both are shown with the device and handed over with the record. A note is
    never judged. With --open it stands among the open points of the record, until the same line
    with --done.

    \b
    portcall note yard-radio "network name DRYER-2, 5 GHz, power 12"
    portcall note weigh-gateway:unit-17 "wires exchanged, put right" --file terminal.jpg
    """
    if not text and (flag or not paths):
        what = "an open point has a TEXT" if flag else "a note has a TEXT, or a --file, or both"
        raise BadInput(what)
    if text != printable(text, LONGEST_NOTE):
        raise BadInput(
            f"{printable(text, 40)}: a note is one line of up to {LONGEST_NOTE} ordinary characters"
        )
    if len(paths) > _MOST_FILES:
        raise BadInput(f"{len(paths)} files: one note has up to {_MOST_FILES}")
    site = this_site()
    plan = plan_if_sound(site)
    meant = parse_noted(target_meant(name, site, plan, By.DEVICE), plan)
    if flag == DONE and not _is_open(site, meant.name or str(meant.mac or meant.address), text):
        raise BadInput(
            f"{printable(text, 40)}: is no open point of {meant.name or name}",
            "portcall logbook show --kind note tells the text of each",
        )
    read = [read_file(path) for path in paths]
    for kept, data in read:
        keep_file(site.folder, kept, data)
    files = [NotedFile(kept.sha256, kept.name, kept.size) for kept, _ in read]
    names = ", ".join(each.name for each in files)
    entry = new_entry(
        Kind.NOTE,
        " · ".join(filter(None, (text, names))),
        note_body(text, files, flag),
        name=meant.name,
        mac=str(meant.mac or ""),
        address=str(meant.address or ""),
    )
    write_entries(site.folder, entry)
    if wants_json():
        print_json({"name": meant.name, **note_body(text, files, flag)})
    else:
        beside = f", with {counted(len(files), 'file')}" if files else ""
        print_lines([Remark(f"noted for {meant.name}{beside}", Tone.DONE)])
    return YES


def _is_open(site: Site, name: str, text: str) -> bool:
    """Whether a text is an open point of a device."""
    from portcall.site.logbook.store import Logbook

    book = Logbook(site.folder)
    noted = ((each.entry, body) for each, body in book.with_bodies(book.entries((Kind.NOTE,))))
    points = {
        (note.entry.name or note.entry.mac or note.entry.address, note.text)
        for note in still_noted(notes_in(noted))
    }
    return (name, text) in points
