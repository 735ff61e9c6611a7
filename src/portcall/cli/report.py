"""``portcall report``."""

from __future__ import annotations

import os
import sys
from datetime import datetime
from importlib.util import find_spec
from pathlib import Path

import click

from portcall.cli.main import NO, NOT_POSSIBLE, YES
from portcall.cli.options import json_option, plan_that_is_there
from portcall.cli.say import note, print_json, wants_json
from portcall.cli.table import Remark, Tone, console, print_lines
from portcall.core.counted import counted
from portcall.core.phrases import ENGLISH, LANGUAGES
from portcall.core.printable import printable
from portcall.core.report.answers import ASKED, Answer, verdict
from portcall.core.trouble import BadInput, NotPossibleHere
from portcall.jobs.report.checking import check_record
from portcall.jobs.report.record import (
    BEFORE_PAGES,
    PAGES,
    make_record,
    page_before,
    page_of,
)
from portcall.jobs.report.signing import CERTIFICATES, ENDING, sign_beside, signed_inside
from portcall.site.files import write_whole
from portcall.site.folder import this_site

_NEEDED = {
    ".html": ("jinja2", "matplotlib"),
    ".pdf": ("jinja2", "matplotlib", "weasyprint", "pypdf"),
}
_LONGEST_REMARK = 600
_PASSPHRASE = "PORTCALL_PASSPHRASE"


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
@click.option(
    "--sign",
    "key",
    metavar="KEY",
    type=click.Path(exists=True, dir_okay=False, path_type=Path),
    help="Sign it: by an SSH key into FILE.sig, or by a .p12 certificate inside a PDF.",
)
@click.option("--check", is_flag=True, help="Hold FILE against all that it can be held against.")
@click.option(
    "--signers",
    metavar="FILE",
    type=click.Path(exists=True, dir_okay=False, path_type=Path),
    help="With --check: who may sign, as ssh-keygen reads it.",
)
@json_option
def report_command(
    file: Path,
    language: str,
    remarks: tuple[str, ...],
    overwrite: bool,
    before: bool,
    key: Path | None,
    check: bool,
    signers: Path | None,
) -> int:
    """Write the hand-over record of this site to FILE.html, .pdf, .xlsx or .json.

    Each planned device with its identity, its address, how it holds it and what proves it; what is
    open; what was changed, and what it was before; what was replaced; watches; the sketch; room for
    two signatures. All of it is from the plan and the logbook, nothing is sent: verify first. The
    same logbook gives the same file, octet for octet. Ends with 0 when nothing is open, else 1.

    --check answers four questions apart: is it as it was signed, does the page say what its data
    says, does the data agree with the logbook in this folder, and is the plan the one of today.
    Ends with 0 when nothing is answered with no, 1 when something is, 3 when something cannot be
    told, as where the page was made with other versions.

    With --before, FILE.html, .pdf or .xlsx is what to fill in at the cabinet: the planned devices
    panel by panel, a line for each to tick, and the sketch of the plan.

    \b
    portcall report hand-over.pdf --language de
    portcall report to-fill-in.pdf --before
    portcall report hand-over.pdf --sign ~/.ssh/id_ed25519
    portcall report --check hand-over.pdf
    """
    site = this_site()
    if check:
        if remarks or overwrite or before or key:
            raise BadInput("--check reads FILE: the other options are for writing one")
        return _check(file, signers)
    if signers:
        raise BadInput("--signers is for --check")
    suffix, pages = file.suffix.lower(), BEFORE_PAGES if before else PAGES
    if suffix not in pages:
        raise BadInput(f"{file}: ends in none of {', '.join(pages)}, so what is to be written?")
    if before and (remarks or key):
        raise BadInput("--remark and --sign are for a record", "a sheet has room to write by hand")
    inside = key is not None and key.suffix.lower() in CERTIFICATES
    if inside and suffix != ".pdf":
        raise BadInput(f"{key}: a certificate signs inside a PDF", "for other files, an SSH key")
    if file.exists() and not overwrite:
        raise BadInput(f"{file}: is there already", "another name, or --overwrite")
    signature = file.with_name(file.name + ENDING)
    if key is not None and not inside and signature.exists() and not overwrite:
        raise BadInput(f"{signature}: is there already", "another name, or --overwrite")
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
    record = make_record(site, plan, language, remarks)
    octets = page_of(record, suffix)
    if inside:
        octets = _signed_inside(octets, key)
    write_whole(file, octets)
    beside = None
    if key is not None and not inside:
        note(f"signing with {key.name}: it may want its passphrase, or a touch")
        beside = sign_beside(file, key)
    summary = record["summary"]
    told = f"{summary['right']} of {summary['rows']} verified right"
    rests = counted(len(record["entries"]), "entry", "entries")
    revision = record["printed"].get("revision")
    if wants_json():
        signed = {"signature": str(beside) if beside else str(file)} if key is not None else {}
        about = {"file": str(file), "digest": record["digest"], "revision": revision}
        print_json({**about, **signed, **summary})
    else:
        which = f", revision {revision}" if revision else ", which cannot be recorded here"
        note(f"{file}{which}: {told}; it rests on {rests} of the logbook")
        if beside is not None:
            note(f"{beside}: its signature; anybody checks it with ssh-keygen -Y verify")
    return YES if summary["right"] == summary["rows"] else NO


def _signed_inside(octets: bytes, key: Path | None) -> bytes:
    """A PDF with a signature in it, by a certificate whose passphrase is asked for."""
    assert key is not None
    passphrase = os.environ.get(_PASSPHRASE)
    if passphrase is None:
        if not sys.stdin.isatty():
            raise BadInput(f"{key}: its passphrase cannot be asked for here", f"set {_PASSPHRASE}")
        prompt = f"passphrase of {key.name}"
        passphrase = click.prompt(prompt, hide_input=True, default="", show_default=False, err=True)
    return signed_inside(octets, key, passphrase)


def _needed(suffix: str) -> None:
    """Before anything is read: whether the libraries are there. Raises NotPossibleHere."""
    missing = [name for name in _NEEDED.get(suffix, ()) if find_spec(name) is None]
    if missing:
        raise NotPossibleHere(
            f"{', '.join(missing)}: not installed, and needed for this",
            "pip install 'portcall[report]'",
        )


def _check(file: Path, signers: Path | None) -> int:
    site = this_site()
    # Make the page again from the record, and compare it with the file.
    _needed(file.suffix.lower())
    checked = check_record(site, file, signers)
    come_to = verdict(checked.answers)
    code = _CODES[come_to]
    if wants_json():
        answers = {
            each.question.value: {"answer": each.answer, "sentences": each.sentences}
            for each in checked.answers
        }
        about = {"file": str(file), "verdict": come_to, "entries": checked.entries}
        print_json({**about, **answers, "later": checked.later})
        return code
    for each in checked.answers:
        console().print(f"{ASKED[each.question]} {each.answer}", style="bold")
        print_lines([Remark(sentence, _TONES[each.answer]) for sentence in each.sentences])
    if checked.later:
        since = counted(checked.later, "entry", "entries")
        note(f"{since} written since are not in it; a new one: portcall report FILE")
    return code


_CODES = {Answer.YES: YES, Answer.NO: NO, Answer.UNKNOWN: NOT_POSSIBLE}
_TONES = {
    Answer.YES: Tone.DONE,
    Answer.NO: Tone.BROKEN,
    Answer.UNKNOWN: Tone.TO_DO,
    Answer.NONE: Tone.INFORMATION,
}
