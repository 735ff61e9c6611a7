"""The record as a page: one file of HTML that needs no network, and the PDF of the same page.

Needs jinja2 and matplotlib, which are imported with this module, and weasyprint for the PDF.
"""

from __future__ import annotations

import os
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

from portcall.core.report.words import words
from portcall.core.sketch.layout import lay_out
from portcall.core.sketch.picture import read_picture
from portcall.core.sketch.sheet import PAPERS, Sheet
from portcall.core.trouble import NotPossibleHere
from portcall.host.runner import rare_collections
from portcall.jobs.report.data import ATTACHED, as_data
from portcall.jobs.report.plots import plot
from portcall.jobs.report.shown import cells, number, when
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
    engine = Environment(autoescape=True, undefined=StrictUndefined, trim_blocks=True)
    engine.filters |= {"when": when, "cells": cells, "number": number, "plot": _plot, "css": _css}
    template = engine.from_string((files(__package__) / "page.html").read_text(encoding="utf-8"))
    word = words(record["language"])
    page = template.render(record=record, w=word, sketch=sheets, carried=Markup(carried))
    return page.encode()


def pdf(record: Mapping[str, Any]) -> bytes:
    """The same page on paper, with the document attached. Raises NotPossibleHere, ValueError.

    The sketch is put into its sheets as it is drawn for paper: as lines and letters, not dots.
    """
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
    made = datetime.fromisoformat(record["as_of"] or "2000-01-01T00:00:00+00:00")
    attached = Attachment(
        string=as_data(record), name=ATTACHED, created=made, modified=made, description="the record"
    )
    fetcher, fonts = OwnFonts(), FontConfiguration()
    style = CSS(string=faces(), font_config=fonts, url_fetcher=fetcher)
    sheets = _sheets(record)
    text = _rendered(record, [""] * len(sheets), "").decode()
    # The sketch is drawn meanwhile, by a process of its own: either takes seconds.
    with _as_of(made), rare_collections(), ProcessPoolExecutor(1) as pool:
        drawing = pool.submit(drawn, sheets, "pdf") if sheets else None
        page = HTML(string=text, url_fetcher=fetcher)
        octets: bytes = page.write_pdf(
            stylesheets=[style],
            font_config=fonts,
            attachments=[attached],
            pdf_identifier=record["digest"].encode()[:32],
        )
        return octets if drawing is None else _with_sketch(octets, drawing.result())


def _with_sketch(octets: bytes, drawing: bytes) -> bytes:
    """The pages, with the sheets of the sketch in the places of those that lie, and are empty."""
    from pypdf import PdfReader, PdfWriter

    writer = PdfWriter(clone_from=BytesIO(octets))
    pages = enumerate(writer.pages)
    lying = [n for n, page in pages if page.mediabox.width > page.mediabox.height]
    for place, sheet in zip(lying, PdfReader(BytesIO(drawing)).pages, strict=True):
        writer.remove_page(place)
        writer.insert_page(sheet, place)
    out = BytesIO()
    writer.write(out)
    return out.getvalue()


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
    return lay_out(read_picture(record["picture"]), PAPERS["a4"], measure)


def _image(svg: bytes) -> str:
    return f"data:image/svg+xml;base64,{b64encode(svg).decode()}"


def _plot(target: Mapping[str, Any]) -> str | None:
    svg = plot(target)
    return _image(svg) if svg else None


def _css(text: str) -> Markup:
    """A text as a string in a style sheet: whatever is not a plain character is a number."""
    plain = "".join(c if c.isalnum() or c in " ,.-" else f"\\{ord(c):06x}" for c in text)
    return Markup(f'"{plain}"')
