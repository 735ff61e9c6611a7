"""Making a site's record, and holding an earlier one against the logbook."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from datetime import datetime
from hashlib import sha256
from importlib.metadata import version
from importlib.util import find_spec
from typing import Any

from portcall import __version__
from portcall.core.plan.rows import Plan
from portcall.core.record.entry import Kind
from portcall.core.record.look import read_look
from portcall.core.record.notes import REMARK, note_body, notes_in
from portcall.core.report.before import before_sheet
from portcall.core.report.content import Order, content, printed_by
from portcall.core.report.grounds import LOOKS, Whole, chosen, chosen_looks, of
from portcall.core.report.grounds import Looks as Drawn
from portcall.core.sketch.picture import picture_document
from portcall.jobs.record.reading import NamedLook
from portcall.jobs.sketch.sketch import picture_of, picture_of_plan
from portcall.site.folder import Site
from portcall.site.logbook.store import Logbook, Numbered
from portcall.site.logbook.writing import new_entry, write_entries

PAGES = (".html", ".pdf", ".xlsx", ".json")
_MOST_LOOKS = 200
"""Looks that are read for a record: what was last seen before these is not in it."""

_MOST_NAMED = 3


LIBRARIES = ("jinja2", "matplotlib", "openpyxl", "pypdf", "weasyprint")
"""Those that set pages: other versions of them set the same page otherwise."""

OF_A_PAGE = {
    ".json": (),
    ".html": ("jinja2", "matplotlib"),
    ".xlsx": ("openpyxl",),
    ".pdf": ("jinja2", "matplotlib", "pypdf", "weasyprint"),
}


def make_record(site: Site, plan: Plan, language: str, remarks: Sequence[str]) -> dict[str, Any]:
    """The record of a site, as of the last entry of its logbook.

    What is remarked is in the logbook before it is in the record, and so is who made the record,
    and when: of the same record that was made before. Raises NotPossibleHere, OSError.
    """
    book = Logbook(site.folder)
    if _note_remarks(site, book, remarks):
        book = Logbook(site.folder)
    whole = read_entries(book, book.entries())
    drawn = chosen_looks(plan, whole)
    grounded = list(of(whole, chosen(plan, whole, drawn)))
    shown = pictures_of(site, grounded)
    made_with = {name: version(name) for name in LIBRARIES if find_spec(name) is not None}
    record = record_of(site, plan, language, remarks, drawn, grounded, shown, made_with)
    return {**record, "printed": _printed(site, book, record)}


def _note_remarks(site: Site, book: Logbook, remarks: Sequence[str]) -> bool:
    """Write down the remarks that are not in the logbook yet; whether there were any."""
    noted = book.with_bodies(book.entries((Kind.NOTE,)) if remarks else [])
    known = {n.text for n in notes_in((e.entry, body) for e, body in noted) if n.is_remark}
    new = [text for text in dict.fromkeys(remarks) if text not in known]
    write_entries(
        site.folder,
        *(new_entry(Kind.NOTE, text, note_body(text, (), REMARK)) for text in new),
    )
    return bool(new)


def _printed(site: Site, book: Logbook, record: Mapping[str, Any]) -> dict[str, Any]:
    """Who made this record first, and when, and which revision that is.

    Nothing where that cannot be written down, as in an archive: then no paper claims it.
    """
    said = fingerprint(record)
    earlier = book.entries((Kind.REPORT,))
    for each, body in book.with_bodies(earlier):
        if body.get("record") == said and isinstance(body.get("revision"), int):
            return printed_by(each.entry, body["revision"])
    revision = len(earlier) + 1
    about = {"record": said, "revision": revision, "language": record["language"]}
    entry = new_entry(Kind.REPORT, f"revision {revision}", about)
    try:
        write_entries(site.folder, entry)
    except OSError:
        return {}
    return printed_by(entry, revision)


def fingerprint(record: Mapping[str, Any]) -> str:
    """The SHA-256 of what a record says, but for who made it when, and with which versions."""
    said = {key: value for key, value in record.items() if key not in _NOT_SAID}
    return sha256(json.dumps(said, ensure_ascii=False, sort_keys=True).encode()).hexdigest()


_NOT_SAID = ("printed", "made_with", "version")


def read_entries(book: Logbook, found: Sequence[Numbered]) -> list[Whole]:
    """Entries with what they hold, of the looks the later ones."""
    looks = [each for each in found if each.entry.kind in LOOKS]
    old = {each.entry.uid for each in looks[:-_MOST_LOOKS]}
    kept = [each for each in found if each.entry.uid not in old]
    return [(each.entry, body) for each, body in book.with_bodies(kept)]


def record_of(
    site: Site,
    plan: Plan,
    language: str,
    remarks: Sequence[str],
    drawn: Drawn | None,
    grounded: Sequence[Whole],
    shown: Mapping[str, str],
    made_with: Mapping[str, str],
) -> dict[str, Any]:
    """The document; ``shown`` are the small pictures in it, by the digests of their files."""
    picture = None
    by_uid = {entry.uid: (entry, body) for entry, body in grounded}
    if drawn is not None and drawn.look in by_uid:
        meant = _look(by_uid, drawn.look)
        wired = meant if drawn.ports == drawn.look else _look(by_uid, drawn.ports)
        picture = picture_document(picture_of(site, plan, meant, wired))
    label = site.label or "a plant network"
    order = Order(
        label,
        __version__,
        language,
        plan,
        remarks,
        drawn,
        picture,
        shown,
        site.contract,
        site.customer,
        made_with=made_with,
    )
    return content(order, grounded)


def pictures_of(site: Site, grounded: Sequence[Whole]) -> dict[str, str]:
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
