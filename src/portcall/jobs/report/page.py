"""The record as a page: one file of HTML that needs no network, and the PDF of the same page.

Needs jinja2 and matplotlib, which are imported with this module, and weasyprint for the PDF.
"""

from __future__ import annotations

import os
import re
from base64 import b64encode
from collections.abc import Iterator, Mapping, Sequence
from concurrent.futures import ProcessPoolExecutor
from contextlib import contextmanager
from datetime import datetime
from importlib.resources import files
from io import BytesIO
from typing import Any

from jinja2 import Environment, StrictUndefined
from markupsafe import Markup

from portcall.core.sketch.layout import lay_out
from portcall.core.sketch.picture import read_picture
from portcall.core.sketch.sheet import PAPERS, Sheet
from portcall.core.trouble import NotPossibleHere
from portcall.host.runner import rare_collections
from portcall.jobs.report.data import ATTACHED, as_data
from portcall.jobs.report.plots import plot
from portcall.jobs.report.shown import Shown
from portcall.jobs.sketch.draw import drawn, measure


def html(record: Mapping[str, Any]) -> bytes:
    """The page, and in it the document itself.

    Everything is escaped, no script runs, and nothing is loaded: the page's own policy says so,
    too. Raises ValueError for a document that is none.
    """
    sheets = [_image(drawn((each,), "svg")) for each in _sheets(record)]
    return _rendered(record, sheets, as_data(record))


def _rendered(record: Mapping[str, Any], sheets: Sequence[str], carried: str) -> bytes:
    """The page with the sheets of a sketch as images, or room for them where one is "".

    ``carried`` is the document to stand in it, "" for none.
    """
    shown = Shown(record)
    about = {"record": record, "s": shown, "w": shown.words}
    return _made("page.html", **about, sketch=sheets, carried=Markup(carried))


def _made(template: str, **values: Any) -> bytes:
    engine = Environment(autoescape=True, undefined=StrictUndefined, trim_blocks=True)
    engine.filters |= {"plot": _plot, "css": _css}
    text = (files(__package__) / template).read_text(encoding="utf-8")
    return engine.from_string(text).render(**values).encode()


def before(sheet: Mapping[str, Any], as_pdf: bool) -> bytes:
    """The sheet to be filled in at the cabinet (``core.report.before``). Raises NotPossibleHere."""
    sheets = _sheets(sheet)
    if as_pdf:
        return _printed(_before_page(sheet, [_ROOM] * len(sheets)), sheets, sheet["made"], "")
    return _before_page(sheet, [_image(drawn((each,), "svg")) for each in sheets])


def _before_page(sheet: Mapping[str, Any], images: Sequence[str]) -> bytes:
    shown = Shown(sheet)
    return _made("before.html", sheet=sheet, s=shown, w=shown.words, sketch=images)


def pdf(record: Mapping[str, Any]) -> bytes:
    """The same page on paper, with the document attached. Raises NotPossibleHere, ValueError.

    The sketch is put into its sheets as it is drawn for paper: as lines and letters, not dots.
    """
    sheets = _sheets(record)
    page = _rendered(record, [_ROOM] * len(sheets), "")
    return _printed(page, sheets, record["as_of"], record["digest"], as_data(record))


def _printed(
    page: bytes, sheets: Sequence[Sheet], at: str | None, identifier: str, data: str = ""
) -> bytes:
    """A page on paper, with the sheets of its sketch, and with ``data`` attached where it is."""
    try:
        from weasyprint import CSS, HTML, Attachment
        from weasyprint.text.fonts import FontConfiguration

        from portcall.jobs.report.fonts import OwnFonts, faces
    except (ImportError, OSError) as error:
        # It loads Pango, a library of the operating system, when it is imported.
        raise NotPossibleHere(
            f"the PDF is set by weasyprint, which does not start here: {error}",
            "write FILE.html, and print that from a browser",
        ) from None
    made = datetime.fromisoformat(at or "2000-01-01T00:00:00+00:00")
    attached = [
        Attachment(
            string=each,
            name=ATTACHED,
            created=made,
            modified=made,
            description="the record",
            relationship="Source",
        )
        for each in filter(None, (data,))
    ]
    fetcher, fonts = OwnFonts(), FontConfiguration()
    style = CSS(string=faces(), font_config=fonts, url_fetcher=fetcher)
    # The sketch is drawn meanwhile, by a process of its own: either takes seconds.
    with _as_of(made), rare_collections(), ProcessPoolExecutor(1) as pool:
        drawing = pool.submit(drawn, sheets, "pdf") if sheets else None
        octets: bytes = HTML(string=page.decode(), url_fetcher=fetcher).write_pdf(
            stylesheets=[style],
            font_config=fonts,
            attachments=attached,
            pdf_identifier=identifier.encode()[:32],
            pdf_variant="pdf/a-3a" if data else None,
            pdf_tags=True,
        )
        return octets if drawing is None else _with_sketch(octets, drawing.result())


def _with_sketch(octets: bytes, drawing: bytes) -> bytes:
    """The pages, with the sheets of the sketch on those that lie, and have room for them.

    The page stays, and the mark of the image there (ISO 32000-1 §14.7.4.2) is that of the sketch:
    so its text for who cannot see it is where it was.
    """
    from pypdf import PdfReader, PdfWriter
    from pypdf.generic import DecodedStreamObject, NameObject

    writer = PdfWriter(clone_from=BytesIO(octets))
    sheets = PdfReader(BytesIO(drawing)).pages
    lying = [page for page in writer.pages if page.mediabox.width > page.mediabox.height]
    # Where every page lies, the sketch is at the end.
    for page, sheet in zip(lying[-len(sheets) :], sheets, strict=True):
        room, drawn_sheet = page.get_contents(), sheet.get_contents()
        assert room is not None
        assert drawn_sheet is not None
        (mark,) = _MARK.findall(room.get_data())
        stream = DecodedStreamObject()
        stream.set_data(b"%s\n%s\nEMC\n" % (mark, drawn_sheet.get_data()))
        page.replace_contents(stream.flate_encode())
        for key in ("/Resources", "/Group"):
            if key in sheet:
                page[NameObject(key)] = sheet[key].clone(writer)
    out = BytesIO()
    writer.write(out)
    return out.getvalue()


_MARK = re.compile(rb"/Figure\s*<<[^>]*>>\s*BDC")


@contextmanager
def _as_of(made: datetime) -> Iterator[None]:
    """Have a font that is made smaller dated so, not today: else every page is another one.

    The variable is what tools that make files agree on for that.
    """
    before = os.environ.get(_EPOCH)
    os.environ[_EPOCH] = str(int(made.timestamp()))
    try:
        yield
    finally:
        if before is None:
            del os.environ[_EPOCH]
        else:
            os.environ[_EPOCH] = before


_EPOCH = "SOURCE_DATE_EPOCH"


def _sheets(record: Mapping[str, Any]) -> tuple[Sheet, ...]:
    if record["picture"] is None:
        return ()
    return lay_out(read_picture(record["picture"]), PAPERS["a4"], measure, str(record["language"]))


def _image(svg: bytes) -> str:
    return f"data:image/svg+xml;base64,{b64encode(svg).decode()}"


_ROOM = _image(b'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 297 209"></svg>')
"""Stands where a sheet of the sketch is put in."""


def _plot(target: Mapping[str, Any]) -> str | None:
    svg = plot(target)
    return _image(svg) if svg else None


def _css(text: str) -> Markup:
    """A text as a string in a style sheet: whatever is not a plain character is a number.

    A space behind a number belongs to it, and is not shown (CSS Syntax 3, 4.3.7).
    """
    plain = "".join(c if c.isalnum() or c in " ,.-" else f"\\{ord(c):06x} " for c in text)
    return Markup(f'"{plain}"')
