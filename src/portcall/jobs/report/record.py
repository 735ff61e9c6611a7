"""Making a site's record, and holding an earlier one against the logbook."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from pathlib import Path
from typing import Any

from portcall import __version__
from portcall.core.counted import counted, named
from portcall.core.plan.reading import parse_plan
from portcall.core.plan.rows import Plan
from portcall.core.record.entry import Kind
from portcall.core.record.look import read_look
from portcall.core.record.notes import notes_in
from portcall.core.record.planned import is_only_noticed
from portcall.core.report.before import before_sheet
from portcall.core.report.content import Order, content
from portcall.core.report.grounds import LOOKS, Whole, chosen, chosen_looks, grounds, of
from portcall.core.report.grounds import Looks as Drawn
from portcall.core.sketch.picture import picture_document
from portcall.core.trouble import BadInput
from portcall.jobs.record.reading import NamedLook
from portcall.jobs.report.data import read_record
from portcall.jobs.report.thumbs import shows_otherwise
from portcall.jobs.sketch.sketch import picture_of, picture_of_plan
from portcall.site.folder import Site
from portcall.site.logbook.store import Logbook, Numbered
from portcall.site.spreadsheet import csv_text

PAGES = (".html", ".pdf", ".xlsx", ".json")
_MOST_LOOKS = 200
"""Looks that are read for a record: what was last seen before these is not in it."""

_MOST_NAMED = 3


def make_record(
    site: Site, book: Logbook, plan: Plan, language: str, remarks: Sequence[str]
) -> dict[str, Any]:
    """The record of a site, as of the last entry of its logbook."""
    whole = _read(book, book.entries())
    drawn = chosen_looks(plan, whole)
    grounded = list(of(whole, chosen(plan, whole, drawn)))
    shown = _pictures(site, grounded)
    return _record(site, plan, language, remarks, drawn, grounded, shown)


def _read(book: Logbook, found: Sequence[Numbered]) -> list[Whole]:
    """Entries with what they hold, of the looks the later ones."""
    looks = [each for each in found if each.entry.kind in LOOKS]
    old = {each.number for each in looks[:-_MOST_LOOKS]}
    kept = [each for each in found if each.number not in old]
    return [(each.entry, body) for each, body in book.with_bodies(kept)]


def _record(
    site: Site,
    plan: Plan,
    language: str,
    remarks: Sequence[str],
    drawn: Drawn | None,
    grounded: Sequence[Whole],
    shown: Mapping[str, str],
) -> dict[str, Any]:
    """The document; ``shown`` are the small pictures in it, by the digests of their files."""
    picture = None
    by_uid = {entry.uid: (entry, body) for entry, body in grounded}
    if drawn is not None and drawn.look in by_uid:
        meant = _look(by_uid, drawn.look)
        wired = meant if drawn.ports == drawn.look else _look(by_uid, drawn.ports)
        picture = picture_document(picture_of(site, plan, meant, wired))
    label = site.label or "a plant network"
    order = Order(label, __version__, language, plan, remarks, drawn, picture, shown)
    return content(order, grounded)


def _pictures(site: Site, grounded: Sequence[Whole]) -> dict[str, str]:
    """Small pictures of the photographs that belong to the notes among some entries."""
    from portcall.jobs.report.thumbs import pictures

    files = [file for each in notes_in(grounded) for file in each.files]
    return pictures(site.folder, files) if files else {}


def _look(by_uid: Mapping[str, Whole], uid: str) -> NamedLook:
    entry, body = by_uid[uid]
    look = read_look(body)
    assert look is not None
    return NamedLook(uid, look, entry)


def page_of(record: Mapping[str, Any], suffix: str) -> bytes:
    """The record as a file of that kind, one of ``PAGES``.

    Raises NotPossibleHere where a library is not there; KeyError, TypeError, ValueError for a
    document that is no record.
    """
    if suffix == ".json":
        return json.dumps(record, ensure_ascii=False, sort_keys=True, indent=1).encode() + b"\n"
    if suffix == ".xlsx":
        from portcall.jobs.report.workbook import workbook

        return workbook(record)
    from portcall.jobs.report import page

    return page.html(record) if suffix == ".html" else page.pdf(record)


BEFORE_PAGES = (".html", ".pdf", ".xlsx")


def page_before(site: Site, plan: Plan, language: str, made: datetime, suffix: str) -> bytes:
    """The sheet to be filled in at the cabinet, as a file of one of ``BEFORE_PAGES``.

    Raises BadInput, NotPossibleHere.
    """
    label, at = site.label or "a plant network", made.isoformat(timespec="seconds")
    drawn = picture_document(picture_of_plan(site, plan)) if suffix != ".xlsx" else None
    sheet = before_sheet(label, __version__, language, plan, at, drawn)
    if suffix == ".xlsx":
        from portcall.jobs.report.workbook import workbook_before

        return workbook_before(sheet)
    from portcall.jobs.report import page

    return page.before(sheet, as_pdf=suffix == ".pdf")


@dataclass(frozen=True, slots=True)
class Checked:
    """The result of checking a record: whether all still holds, and in sentences why.

    ``later`` counts the entries about the site that were written since.
    """

    holds: bool
    entries: int
    findings: tuple[str, ...]
    later: int


def check_record(site: Site, book: Logbook, file: Path) -> Checked:
    """Hold a record's file against the logbook of a site. Raises BadInput, NotPossibleHere."""
    record, octets = read_record(file)
    try:
        named_uids = [str(each["uid"]) for each in record["entries"]]
        wanted = {str(each["uid"]): str(each["sha256"]) for each in record["entries"]}
        plan = _plan(record["plan"])
        drawn = Drawn(**record["looks"]) if record["looks"] else None
        language, remarks = str(record["language"]), [str(each) for each in record["remarks"]]
        version = str(record["version"])
    except (KeyError, TypeError, AttributeError, BadInput):
        raise BadInput(f"{file.name}: its record is damaged") from None
    found = book.entries()
    chosen_ones = [each for each in found if each.entry.uid in wanted]
    whole = [(each.entry, body) for each, body in book.with_bodies(chosen_ones)]
    here = {each.uid: each.sha256 for each in grounds(replace(e, body=b) for e, b in whole)}
    missing = [uid for uid in named_uids if uid not in here]
    other = [uid for uid in named_uids if uid in here and here[uid] != wanted[uid]]
    findings = []
    if missing:
        findings.append(f"{_entries(missing)} not in this logbook")
    if other:
        findings.append(f"{_entries(other)} otherwise in this logbook")
    last = max((each.entry.at for each in chosen_ones), default=None)
    until = [each for each in found if last is not None and each.entry.at <= last]
    if not findings:
        shown = record.get("pictures") or {}
        again = _record(site, plan, language, remarks, drawn, whole, shown)
        # Records of before had neither notes nor pictures.
        mine = {**{key: again[key] for key in ("notes", "pictures")}, **record}
        findings += _differences(mine, {**again, "version": version})
        kept = _pictures(site, whole)
        for digest in shows_otherwise(record, kept):
            findings.append(f"a picture shows something else than the file {digest[:12]} does")
        findings += [
            f"the file {digest[:12]} of a note is not kept here any more, or not as it was: "
            "whether its picture shows it cannot be told"
            for digest in shown
            if digest not in kept
        ]
        then = _read(book, until)
        more = chosen(plan, then, chosen_looks(plan, then)) - wanted.keys()
        if more:
            # The entry was left out, or it was copied here later from the laptop that wrote it.
            verb = "is" if len(more) == 1 else "are"
            which = _some(sorted(more))
            findings.append(f"{which} of before its date {verb} in this logbook, and not in it")
    if version == __version__:
        if not _is_its_page(record, octets, file.suffix.lower()):
            findings.append("the page does not say what its own record says: it was changed since")
    else:
        findings.append(
            f"it was made with version {version}: whether its page was changed cannot be told with "
            f"{__version__}"
        )
    since = ((each.entry, body) for each, body in book.with_bodies(found[len(until) :]))
    later = [e for e, b in since if e.kind is not Kind.MATCH and not is_only_noticed(e, b)]
    return Checked(not findings, len(wanted), tuple(findings), len(later))


def _plan(rows: Sequence[Mapping[str, str]]) -> Plan:
    """The plan that a record was made with."""
    columns = list(dict.fromkeys(key for row in rows for key in row))
    if not columns:
        return Plan()
    lines = [columns, *([str(row.get(key, "")) for key in columns] for row in rows)]
    return parse_plan(csv_text(lines, ",", mark=False), "the record's plan")


def _entries(uids: Sequence[str]) -> str:
    return f"{_some(uids)} that it rests on {'is' if len(uids) == 1 else 'are'}"


def _some(uids: Sequence[str]) -> str:
    """How many entries, and some of them by the beginnings of their identities."""
    which = named([uid[:8] for uid in uids], _MOST_NAMED)
    return f"{counted(len(uids), 'entry', 'entries')} ({which})"


def _differences(record: Mapping[str, Any], again: Mapping[str, Any]) -> list[str]:
    """The sections that say something else than the entries do."""
    plain = json.loads(json.dumps(again))
    sections = [key for key in plain if record.get(key) != plain[key]]
    return [f"{key}: the entries say otherwise than it does" for key in sections]


def _is_its_page(record: Mapping[str, Any], octets: bytes, suffix: str) -> bool:
    """Whether a file is, octet for octet, what its own record gives."""
    if suffix not in PAGES:
        return False
    try:
        return page_of(record, suffix) == octets
    except (KeyError, TypeError, ValueError, AttributeError, RecursionError):
        return False
