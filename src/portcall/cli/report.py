"""``portcall report``."""

from __future__ import annotations

from datetime import datetime
from importlib.util import find_spec
from pathlib import Path

import click

from portcall.cli.main import NO, YES
from portcall.cli.options import json_option, plan_that_is_there
from portcall.cli.say import note, print_json, wants_json
from portcall.cli.table import Remark, Tone, print_lines
from portcall.core.counted import counted
from portcall.core.printable import printable
from portcall.core.report.words import ENGLISH, LANGUAGES
from portcall.core.trouble import BadInput, NotPossibleHere
from portcall.jobs.report.record import (
    BEFORE_PAGES,
    PAGES,
    check_record,
    make_record,
    page_before,
    page_of,
)
from portcall.site.files import write_whole
from portcall.site.folder import this_site
from portcall.site.logbook.store import Logbook

_NEEDED = {
    ".html": ("jinja2", "matplotlib"),
    ".pdf": ("jinja2", "matplotlib", "weasyprint", "pypdf"),
}
_LONGEST_REMARK = 600


@click.command("report")
@click.argument("file", type=click.Path(dir_okay=False, path_type=Path))
@click.option(
    "--language",
    type=click.Choice(LANGUAGES),
    default=ENGLISH,
    show_default=True,
    help="The language of the headings.",
)
@click.option(
    "--remark",
    "remarks",
    multiple=True,
    metavar="TEXT",
    help="A sentence of yours for the record; may be repeated.",
)
@click.option("--overwrite", is_flag=True, help="Write over a FILE that is there.")
@click.option(
    "--before", is_flag=True, help="The same before anything is connected: with empty boxes."
)
@click.option("--check", is_flag=True, help="Say whether the logbook still says what FILE says.")
@json_option
def report_command(
    file: Path,
    language: str,
    remarks: tuple[str, ...],
    overwrite: bool,
    before: bool,
    check: bool,
) -> int:
    """Write the hand-over record of this site to FILE.html, .pdf, .xlsx or .json.

    Each planned device with its identity, its address, how it holds it and what proves it; what is
    open; what was changed, and what it was before; what was replaced; watches; the sketch; room for
    two signatures. All of it is from the plan and the logbook, nothing is sent: verify first. The
    same logbook gives the same file, octet for octet. Writing ends with 0 when nothing is open, 1
    when something is; --check with 0 when all of it still holds.

    With --before, FILE.html, .pdf or .xlsx is what to fill in at the cabinet: the planned devices
    panel by panel, a line for each to tick, and the sketch of the plan.

    \b
    portcall report hand-over.pdf --language de
    portcall report to-fill-in.pdf --before
    portcall report --check hand-over.pdf
    """
    site = this_site()
    if check:
        if remarks or overwrite or before:
            raise BadInput("--check reads FILE: the other options are for writing one")
        return _check(file)
    suffix, pages = file.suffix.lower(), BEFORE_PAGES if before else PAGES
    if suffix not in pages:
        raise BadInput(f"{file}: ends in none of {', '.join(pages)}, so what is to be written?")
    if before and remarks:
        raise BadInput("--remark is for a record", "with --before there is room to write by hand")
    if file.exists() and not overwrite:
        raise BadInput(f"{file}: is there already", "another name, or --overwrite")
    for text in remarks:
        if text != printable(text, _LONGEST_REMARK):
            raise BadInput(
                f"{printable(text, 40)}: a remark is one line of up to {_LONGEST_REMARK}"
            )
    _needed(suffix)
    plan = plan_that_is_there(site)
    if before:
        write_whole(file, page_before(site, plan, language, datetime.now().astimezone(), suffix))
        note(f"{file}: {counted(len(plan.rows), 'row')} of the plan, to be filled in")
        return YES
    record = make_record(site, Logbook(site.folder), plan, language, remarks)
    write_whole(file, page_of(record, suffix))
    summary = record["summary"]
    told = f"{summary['right']} of {summary['rows']} verified right"
    rests = counted(len(record["entries"]), "entry", "entries")
    if wants_json():
        print_json({"file": str(file), "digest": record["digest"], **summary})
    else:
        note(f"{file}: {told}; it rests on {rests} of the logbook")
    return YES if summary["right"] == summary["rows"] else NO


def _needed(suffix: str) -> None:
    """Before anything is read: whether the libraries are there. Raises NotPossibleHere."""
    missing = [name for name in _NEEDED.get(suffix, ()) if find_spec(name) is None]
    if missing:
        raise NotPossibleHere(
            f"{', '.join(missing)}: not installed, and needed for this",
            "pip install 'portcall[report]'",
        )


def _check(file: Path) -> int:
    site = this_site()
    # Make the page again from the record, and compare it with the file.
    _needed(file.suffix.lower())
    checked = check_record(site, Logbook(site.folder, anew=True), file)
    if wants_json():
        print_json(
            {
                "file": str(file),
                "holds": checked.holds,
                "entries": checked.entries,
                "findings": list(checked.findings),
                "later": checked.later,
            }
        )
        return YES if checked.holds else NO
    rests = counted(checked.entries, "entry", "entries")
    lines = [Remark(each, Tone.BROKEN) for each in checked.findings]
    if checked.holds:
        lines = [
            Remark(f"it rests on {rests}: all are in the logbook as they were", Tone.DONE),
            Remark("what it says is what they say, octet for octet", Tone.DONE),
        ]
    print_lines(lines)
    if checked.later:
        since = counted(checked.later, "entry", "entries")
        note(f"{since} written since are not in it; a new one: portcall report FILE")
    return YES if checked.holds else NO
