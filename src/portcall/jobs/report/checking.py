"""Holding a record's file against what it carries, the logbook, the plan, and its signature."""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from importlib.metadata import version
from importlib.util import find_spec
from io import BytesIO
from pathlib import Path
from typing import Any

from portcall import __version__
from portcall.core.counted import counted, named
from portcall.core.plan.changing import cells_of
from portcall.core.plan.reading import parse_plan
from portcall.core.plan.rows import Plan
from portcall.core.printable import printable
from portcall.core.record.chain import HARMLESS
from portcall.core.record.entry import Kind
from portcall.core.record.notes import notes_in
from portcall.core.record.planned import is_only_noticed
from portcall.core.report.answers import Answer, Answered, Question
from portcall.core.report.content import FORMAT, printed_by
from portcall.core.report.grounds import BESIDE, Looks, chosen, chosen_looks, grounds
from portcall.core.trouble import BadInput, NotPossibleHere, Trouble
from portcall.jobs.report.data import read_record
from portcall.jobs.report.record import (
    OF_A_PAGE,
    PAGES,
    fingerprint,
    page_of,
    pictures_of,
    read_entries,
    record_of,
)
from portcall.jobs.report.signing import only_signed_since, signature_of
from portcall.jobs.report.thumbs import shows_otherwise
from portcall.jobs.report.workbook import same_parts
from portcall.site.folder import Site
from portcall.site.logbook.store import Logbook, Numbered
from portcall.site.spreadsheet import csv_text

_MOST_NAMED = 3


@dataclass(frozen=True, slots=True)
class Checked:
    """The answers, how many entries the record rests on, and how many were written since."""

    answers: tuple[Answered, ...]
    entries: int
    later: int


def check_record(site: Site, file: Path, signers: Path | None = None) -> Checked:
    """Hold a record's file against all that it can be held against.

    ``signers`` names who may sign (ssh-keygen(1), ALLOWED SIGNERS). Raises BadInput,
    NotPossibleHere.
    """
    record, octets = read_record(file)
    try:
        carried = _Carried(record)
    except (KeyError, TypeError, AttributeError, ValueError, BadInput):
        raise BadInput(f"{file.name}: its record is damaged") from None
    # Of all lines, whatever the database says that is made of them.
    book = Logbook(site.folder, anew=True)
    by_logbook, later = _by_logbook(site, book, carried)
    answers = (
        signature_of(file, octets, signers),
        _by_its_data(file, octets, record),
        by_logbook,
        _by_the_plan(site, carried),
    )
    return Checked(answers, len(carried.wanted), later)


class _Carried:
    """What a record says that it is made of. Raises KeyError and others for one that is none."""

    def __init__(self, record: Mapping[str, Any]) -> None:
        self.record = record
        self.uids = [str(each["uid"]) for each in record["entries"]]
        self.wanted = {str(each["uid"]): str(each["sha256"]) for each in record["entries"]}
        self.plan = _plan(record["plan"])
        self.drawn = Looks(**record["looks"]) if record["looks"] else None
        self.language = str(record["language"])
        self.remarks = [str(each) for each in record["remarks"]]
        self.version = str(record["version"])
        self.made_with = dict(record.get("made_with") or {})

    def named(self, site: Site) -> Site:
        """The site as it was called then: that is no matter of the logbook."""
        told = (str(self.record.get(key) or "") for key in ("site", "contract", "customer"))
        name, contract, customer = told
        return replace(site, name=name, contract=contract, customer=customer)


def _plan(rows: Sequence[Mapping[str, str]]) -> Plan:
    """The plan that a record was made with."""
    columns = list(dict.fromkeys(key for row in rows for key in row))
    if not columns:
        return Plan()
    lines = [columns, *([str(row.get(key, "")) for key in columns] for row in rows)]
    return parse_plan(csv_text(lines, ",", mark=False), "the record's plan")


def _by_its_data(file: Path, octets: bytes, record: Mapping[str, Any]) -> Answered:
    """Whether the page is the one that its own data gives."""
    suffix = file.suffix.lower()

    def answer(told: Answer, *sentences: str) -> Answered:
        return Answered(Question.PAGE, told, sentences)

    if suffix not in PAGES:
        return answer(Answer.UNKNOWN, f"{file.name}: ends in none of {', '.join(PAGES)}")
    others = list(_other_versions(record, suffix))
    try:
        again = page_of(record, suffix)
    except NotPossibleHere:
        raise
    except Exception:
        # A record that others wrote, or an earlier version, can raise nearly any error in a page.
        if others:
            return answer(Answer.UNKNOWN, f"it was made with {others[0]}")
        return answer(Answer.NO, "its data does not give a page")
    if again == octets:
        return answer(Answer.YES, "the page is the one that the data in it gives, octet for octet")
    if suffix == ".xlsx" and same_parts(octets, again):
        return answer(Answer.YES, "each part of the spreadsheet says what the data in it gives")
    if suffix == ".pdf" and octets.startswith(again):
        return only_signed_since(octets, len(again))
    if others:
        return answer(
            Answer.UNKNOWN,
            f"it was made with {named(others, _MOST_NAMED)}, which set a page otherwise than the "
            "ones here: whether it was changed cannot be told",
        )
    if suffix == ".pdf" and _words(octets) == _words(again):
        return answer(
            Answer.UNKNOWN,
            "its words are those of its data; how it is drawn differs, as by other fonts or "
            "another operating system: whether that was changed cannot be told",
        )
    return answer(Answer.NO, "the page says something else than the data in it: it was changed")


def _other_versions(record: Mapping[str, Any], suffix: str) -> Iterator[str]:
    """Versions that made a page and are not those here."""
    if record.get("version") != __version__:
        yield f"version {printable(str(record.get('version')), 20)}"
    if record.get("format") != FORMAT:
        yield "an earlier version"
    made_with = dict(record.get("made_with") or {})
    for library in OF_A_PAGE[suffix]:
        here = version(library) if find_spec(library) is not None else "none"
        there = made_with.get(library)
        if there is not None and there != here:
            yield f"{library} {printable(str(there), 20)}"


def _words(octets: bytes) -> list[str] | None:
    try:
        from pypdf import PdfReader

        return [page.extract_text() for page in PdfReader(BytesIO(octets)).pages]
    except Exception:
        # A damaged file can raise nearly any error in its reader.
        return None


def _by_logbook(site: Site, book: Logbook, carried: _Carried) -> tuple[Answered, int]:
    """Whether the data is what the entries here say; and how many entries were written since."""
    found = book.entries()
    chosen_ones = [each for each in found if each.entry.uid in carried.wanted]
    if not chosen_ones and carried.wanted:
        sentence = "there is no logbook in this folder that has any of its entries"
        return Answered(Question.LOGBOOK, Answer.UNKNOWN, (sentence,)), 0
    findings = list(_entries_otherwise(book, chosen_ones, carried))
    last = max((each.entry.at for each in chosen_ones), default=None)
    until = [each for each in found if last is not None and each.entry.at <= last]
    doubts: list[str] = []
    if not findings:
        findings += _sections(site, book, chosen_ones, carried, doubts)
        findings += _left_out(book, until, carried)
    findings += _printing(book, carried)
    damaged = [each for each in book.damage if each.damage.kind not in HARMLESS]
    if damaged:
        findings.append(f"the logbook itself is damaged: {damaged[0]}: portcall logbook check")
    later = _later(book, found[len(until) :])
    if findings or doubts:
        told = Answer.NO if findings else Answer.UNKNOWN
        return Answered(Question.LOGBOOK, told, (*findings, *doubts)), later
    rests = counted(len(carried.wanted), "entry", "entries")
    sentences = (
        f"it rests on {rests}: all are in the logbook of this folder as they were, and it says "
        "what they say",
        "whoever can write in this folder can change both",
    )
    return Answered(Question.LOGBOOK, Answer.YES, sentences), later


def _entries_otherwise(
    book: Logbook, chosen_ones: Sequence[Numbered], carried: _Carried
) -> Iterator[str]:
    whole = [replace(each.entry, body=body) for each, body in book.with_bodies(chosen_ones)]
    here = {each.uid: each.sha256 for each in grounds(whole)}
    missing = [uid for uid in carried.uids if uid not in here]
    other = [uid for uid in carried.uids if uid in here and here[uid] != carried.wanted[uid]]
    if missing:
        yield f"{_entries(missing)} not in this logbook"
    if other:
        yield f"{_entries(other)} otherwise in this logbook"


def _sections(
    site: Site,
    book: Logbook,
    chosen_ones: Sequence[Numbered],
    carried: _Carried,
    doubts: list[str],
) -> Iterator[str]:
    """The sections that say something else than the entries do; adds what cannot be told."""
    record = carried.record
    whole = [(each.entry, body) for each, body in book.with_bodies(chosen_ones)]
    shown = record.get("pictures") or {}
    again = record_of(
        carried.named(site),
        carried.plan,
        carried.language,
        carried.remarks,
        carried.drawn,
        whole,
        shown,
        carried.made_with,
    )
    plain = json.loads(json.dumps({**again, "version": carried.version}))
    is_of_now = record.get("format") == FORMAT
    if not is_of_now:
        doubts.append(
            "its entries are as they were; an earlier version put it together otherwise, and "
            "whether it says what they say cannot be told"
        )
    for key, value in plain.items() if is_of_now else ():
        # Who made it is told by an entry of its own.
        if key != "printed" and record.get(key) != value:
            yield f"{key}: the entries say otherwise than it does"
    kept = pictures_of(site, whole)
    for digest in shows_otherwise(record, kept):
        yield f"a picture shows something else than the file {digest[:12]} does"
    doubts += [
        f"the file {digest[:12]} of a note is not kept here any more, or not as it was: whether "
        "its picture shows it cannot be told"
        for digest in shown
        if digest not in kept
    ]
    noted = {note.text for note in notes_in(whole) if note.is_remark}
    for text in carried.remarks:
        if text not in noted and is_of_now:
            yield f"a remark in it is not in the logbook: {printable(text)}"


def _left_out(book: Logbook, until: Sequence[Numbered], carried: _Carried) -> Iterator[str]:
    """Entries of before its date that it should rest on, and does not."""
    then = read_entries(book, until)
    more = chosen(carried.plan, then, chosen_looks(carried.plan, then)) - carried.wanted.keys()
    if more:
        # The entry was left out, or it was copied here later from the laptop that wrote it.
        verb = "is" if len(more) == 1 else "are"
        which = _some(sorted(more))
        yield f"{which} of before its date {verb} in this logbook, and not in it"


def _printing(book: Logbook, carried: _Carried) -> Iterator[str]:
    """Whether the logbook tells who made it, and when, as it says itself."""
    printed = carried.record.get("printed")
    if not printed:
        return
    said = fingerprint(carried.record)
    for each, body in book.with_bodies(book.entries((Kind.REPORT,))):
        revision = body.get("revision")
        is_it = body.get("record") == said
        if is_it and isinstance(revision, int) and printed_by(each.entry, revision) == printed:
            return
    yield "no entry of this logbook tells that it was made so, then and by whom it says"


def _later(book: Logbook, since: Sequence[Numbered]) -> int:
    """How many entries about the site were written since."""
    told = ((each.entry, body) for each, body in book.with_bodies(since))
    return sum(e.kind not in BESIDE and not is_only_noticed(e, body) for e, body in told)


def _by_the_plan(site: Site, carried: _Carried) -> Answered:
    """Whether the plan in a record is the one of today."""

    def answer(told: Answer, *sentences: str) -> Answered:
        return Answered(Question.PLAN, told, sentences)

    if site.plan_path is None:
        return answer(Answer.UNKNOWN, "there is no plan in this folder")
    try:
        now = site.plan()
    except Trouble as trouble:
        return answer(Answer.UNKNOWN, f"the plan in this folder cannot be read: {trouble}")
    was = {row.name: cells_of(row) for row in carried.plan.rows}
    is_now = {row.name: cells_of(row) for row in now.rows}
    new = [name for name in is_now if name not in was]
    gone = [name for name in was if name not in is_now]
    other = [name for name in was if name in is_now and was[name] != is_now[name]]
    told = [
        f"{counted(len(names), 'row')} {what}: {named(names, _MOST_NAMED)}"
        for names, what in (
            (new, "of the plan of today not in it"),
            (gone, "in it not in the plan of today"),
            (other, "planned otherwise today"),
        )
        if names
    ]
    for key, here in (("contract", site.contract), ("customer", site.customer)):
        there = printable(str(carried.record.get(key) or ""))
        if there != here:
            told.append(f"the {key} is {there or 'empty'} in it, and {here or 'empty'} today")
    if told:
        return answer(Answer.NO, *told)
    return answer(Answer.YES, f"all {counted(len(was), 'row')} are planned today as they are in it")


def _entries(uids: Sequence[str]) -> str:
    return f"{_some(uids)} that it rests on {'is' if len(uids) == 1 else 'are'}"


def _some(uids: Sequence[str]) -> str:
    """How many entries, and some of them by the beginnings of their identities."""
    which = named([uid[:8] for uid in uids], _MOST_NAMED)
    return f"{counted(len(uids), 'entry', 'entries')} ({which})"
