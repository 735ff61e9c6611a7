"""The record as a spreadsheet (Office Open XML, ISO/IEC 29500): one sheet a section.

Needs openpyxl, which is loaded when one is made. Every cell is text, and nothing in it is run.
"""

from __future__ import annotations

import zipfile
import zlib
from collections.abc import Iterator, Mapping, Sequence
from io import BytesIO
from typing import Any
from xml.etree.ElementTree import fromstring

from portcall.core.report.grounds import Ground
from portcall.core.report.words import words
from portcall.jobs.report.data import SHEET, as_data
from portcall.jobs.report.shown import Shown
from portcall.site.spreadsheet import Sheet, put_sheet

_PIECE = 30_000
"""Characters of a piece: a cell takes 32,767 (ISO/IEC 29500-1 §18.3.1.96 as applied)."""

_NEVER_CHANGED = (1980, 1, 1, 0, 0, 0)
"""When every part of the file was written: the same document gives the same octets."""


def workbook(record: Mapping[str, Any]) -> bytes:
    """The spreadsheet. Raises ValueError, KeyError, TypeError for a document that is none."""
    from openpyxl import Workbook

    shown = Shown(record)
    word = shown.words
    book = Workbook()
    book.remove(book.active)
    below = f"{record['site']}, {shown.when(record['as_of'])} {shown.zone()}"
    for name, heading, rows in _sections(record, shown):
        page = book.create_sheet(word.get(f"{name}_short", word[name])[:31])
        put_sheet(page, Sheet(word[name], below, heading, rows))
    text = as_data(record)
    pieces = [[text[n : n + _PIECE]] for n in range(0, len(text), _PIECE)]
    page = book.create_sheet(SHEET)
    put_sheet(page, Sheet("record", record["digest"], ["JSON"], pieces))
    page.sheet_state = "hidden"
    saved = BytesIO()
    book.save(saved)
    return _without_times(saved.getvalue())


def workbook_before(sheet: Mapping[str, Any]) -> bytes:
    """The sheet to be filled in, one table: a filter shows one panel."""
    from openpyxl import Workbook

    word = words(sheet["language"])
    book = Workbook()
    book.remove(book.active)
    columns = ("name", "kind", "address", "mask", "gateway", "mac", *_PLATE)
    shown = Shown(sheet)

    def told(row: Mapping[str, Any], key: str) -> str:
        return shown.where(row[key]) if key == "address" else _text(row[key])

    heading = [word["place"], *(word[key] for key in columns)]
    heading += [word["is_kept"], word["is_proved"], word["initials"]]
    rows = [
        [panel["name"], *(told(row, key) for key in columns), "", "", ""]
        for panel in sheet["panels"]
        for row in panel["rows"]
    ]
    page = book.create_sheet(word["devices"][:31])
    below = f"{sheet['site']}, {shown.when(sheet['made'])}"
    put_sheet(page, Sheet(word["before_title"], below, heading, rows))
    saved = BytesIO()
    book.save(saved)
    return saved.getvalue()


_PLATE = ("product", "maker", "serial", "firmware")


def _sections(
    record: Mapping[str, Any], shown: Shown
) -> Iterator[tuple[str, list[str], list[list[str]]]]:
    word, when, told = shown.words, shown.when, shown.told
    right = f"{record['summary']['right']} {word['of']} {record['summary']['rows']}"
    facts = [
        [word["site"], record["site"]],
        *([word[key], record[key]] for key in ("customer", "contract") if record.get(key)),
        *_printed(record, shown),
        [word["as_of"], when(record["as_of"])],
        [word["times"], shown.zone()],
        [word["people"], ", ".join(record["people"])],
        [word["tool"], f"Port Call {record['version']}"],
        [word["verified_right"], right],
        *([name, f"{r} {word['of']} {n}"] for name, r, n in record["summary"]["groups"]),
        *([word["remarks"], each] for each in record["remarks"]),
        [word["handed_over"], ""],
        [word["taken_over"], ""],
    ]
    yield "summary", ["", ""], facts
    plain = ("name", "place", "group", "maker", "product", "serial", "firmware", "mac", "address")
    columns = (*plain, "mask", "gateway", "holds", "state", "verified", "echo", "power_cycle")
    yield (
        "devices",
        [word[key] for key in columns],
        [
            [
                *(_text(each[key]) for key in plain[:-1]),
                shown.where(each["address"]),
                told(each, "mask"),
                told(each, "gateway"),
                word[each["holds"]] if each["holds"] else word["not_known"],
                word[each["state"]],
                when(each["verified"]),
                f"{each['echo_ms']} ms" if each["echo_ms"] else "",
                when(each["power_cycle"]),
            ]
            for each in record["devices"]
        ],
    )
    points = [[each["name"], shown.said(each)] for each in record["open"]]
    yield "open", [word["name"], word["what"]], points
    for_engineer = [
        [each["name"], shown.for_the_engineer(each), each["next"]] for each in record["open"]
    ]
    yield "engineer", [word[key] for key in ("name", "what", "next")], for_engineer
    yield from _lists(record, shown)
    changed = ("when", "name", "mac", "what", "now", "before", "who")
    yield _table("changes", changed, [shown.change(each) for each in record["changes"]], shown)
    replaced = ("when", "name", "address", "old", "new", "verdict", "who")
    yield _table("replaced", replaced, [shown.replaced(each) for each in record["replaced"]], shown)
    targets = [
        [when(w["at"]), _text(t["target"]), *(_text(t[k]) for k in _OF_A_TARGET), _text(w["who"])]
        for w in record["watches"]
        for t in w["targets"]
    ]
    heading = ["when", "target", "sent", "lost", "median", "gap", "who"]
    notes = [
        [
            each["name"],
            "\n".join(filter(None, (each["text"], *(f["name"] for f in each["files"])))),
            when(each["at"]) or word["of_plan"],
            each["who"],
        ]
        for each in record.get("notes", ())
    ]
    yield "notes", [word[key] for key in ("name", "what", "when", "who")], notes
    yield "watches", [word[key] for key in heading], targets
    known = [[_text(each[key]) for key in Ground._fields] for each in record["entries"]]
    yield (
        "grounds",
        ["uid", word["when"], word["what"], "SHA-256"],
        [
            ["", "", "", record["digest"]],
            *known,
        ],
    )


def _printed(record: Mapping[str, Any], shown: Shown) -> Iterator[list[str]]:
    made = record.get("printed")
    if made:
        word = shown.words
        told = f"{made['revision']}, {word['printed']} {made['who']}, {shown.when(made['at'])}"
        yield [word["revision"], told]


def _lists(
    record: Mapping[str, Any], shown: Shown
) -> Iterator[tuple[str, list[str], list[list[str]]]]:
    """The lists of a site; a record of before has none of them."""
    word = shown.words
    if not record.get("panels"):
        return
    addresses = [
        [panel["panel"] or word["no_panel"], address, name]
        for panel in record["panels"]
        for address, name in panel["addresses"]
    ]
    yield "panels", [word[key] for key in ("panel", "address", "name")], addresses
    free = [
        [each["subnet"], _text(each["planned"]), _text(each["free"]), shown.ranges(each)]
        for each in record["subnets"]
    ]
    yield "subnets", [word[key] for key in ("subnet", "planned", "free", "addresses")], free
    versions = [
        [each["maker"], each["product"], each["firmware"], name]
        for each in record["firmware"]
        for name in each["names"]
    ]
    yield "firmware_list", [word[key] for key in ("maker", "product", "firmware", "name")], versions
    ports = [[each["switch"], each["port"], shown.behind(each)] for each in record["ports"]]
    yield "ports", [word[key] for key in ("switch", "port", "behind")], ports


_OF_A_TARGET = ("sent", "lost", "median_ms", "gap_s")


def _table(
    section: str,
    columns: Sequence[str],
    rows: Sequence[Mapping[str, Any]],
    shown: Shown,
) -> tuple[str, list[str], list[list[str]]]:
    cells = [
        [shown.when(each["at"]) if key == "when" else _text(each[key]) for key in columns]
        for each in rows
    ]
    return section, [shown.words[key] for key in columns], cells


def _text(value: Any) -> str:
    return "" if value is None else str(value)


def _without_times(data: bytes) -> bytes:
    """The same file, without when it was made."""
    out = BytesIO()
    with (
        zipfile.ZipFile(BytesIO(data)) as old,
        zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as new,
    ):
        for name in sorted(old.namelist()):
            part = old.read(name) if name != "docProps/core.xml" else _PROPERTIES
            new.writestr(zipfile.ZipInfo(name, _NEVER_CHANGED), part, zipfile.ZIP_DEFLATED)
    return out.getvalue()


def same_parts(anybodys: bytes, ours: bytes) -> bool:
    """Whether two spreadsheets have the same parts, however these are written and packed.

    The library writes XML in one of two ways, as lxml is there or not, and what a part is packed
    into depends on the version of zlib.
    """
    try:
        with zipfile.ZipFile(BytesIO(anybodys)) as one, zipfile.ZipFile(BytesIO(ours)) as other:
            names = sorted(other.namelist())
            return sorted(one.namelist()) == names and all(
                _elements(one, name, most) == _elements(other, name, most)
                for name in names
                for most in [_SPACES * other.getinfo(name).file_size + _PIECE]
            )
    except _NOT_READ:
        return False


_NOT_READ = (
    zipfile.BadZipFile,
    zlib.error,
    OSError,
    EOFError,
    ValueError,
    SyntaxError,
    RuntimeError,
)
"""What a damaged or hostile file of its kind raises in its readers."""

_SPACES = 2
"""How much longer the same part can be as others write it."""


def _elements(book: zipfile.ZipFile, name: str, most: int) -> list[tuple[object, ...]]:
    """The elements of a part, in their order. Raises ValueError, SyntaxError."""
    with book.open(name) as part:
        data = part.read(most + 1)
    if len(data) > most or b"<!DOCTYPE" in data:
        raise ValueError("is no part that was written here")
    return [
        (each.tag, sorted(each.attrib.items()), each.text or "", each.tail or "", len(each))
        for each in fromstring(data).iter()
    ]


_PROPERTIES = (
    b"<?xml version='1.0' encoding='UTF-8'?>"
    b'<cp:coreProperties xmlns:cp="http://schemas.openxmlformats.org/package/2006/metadata/'
    b'core-properties" xmlns:dc="http://purl.org/dc/elements/1.1/">'
    b"<dc:creator>Port Call</dc:creator></cp:coreProperties>"
)
