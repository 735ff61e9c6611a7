"""The record as data: as pages carry it, and read again from them."""

from __future__ import annotations

import json
import re
from collections.abc import Mapping
from io import BytesIO
from pathlib import Path
from typing import Any

from portcall.core.report.content import EARLIER_FORMATS, FORMAT
from portcall.core.trouble import BadInput, NotPossibleHere
from portcall.site.files import read_bounded

ATTACHED = "record.json"
"""What the document is called that a PDF carries."""

SHEET = "record"
"""The sheet of a workbook that has it, in pieces."""

_LARGEST = 64 * 1024 * 1024
_IN_A_PAGE = re.compile(
    rb'<script type="application/json" id="record">([^<]*)</script>\s*</body>\s*</html>\s*\Z'
)
"""At the very end: what is written anywhere else is text that somebody typed."""


def as_data(record: Mapping[str, Any]) -> str:
    """The document as JSON that stands safely inside a page: nothing in it ends the element."""
    text = json.dumps(record, ensure_ascii=False, sort_keys=True)
    for character in "<>&\u2028\u2029":
        text = text.replace(character, f"\\u{ord(character):04x}")
    return text


def read_record(path: Path) -> tuple[dict[str, Any], bytes]:
    """The document that a file is, or carries, and the file as it is.

    Raises BadInput for a file that has none, NotPossibleHere.
    """
    data = read_bounded(path, _LARGEST, "record")
    try:
        text = _carried(data)
        record = json.loads(text) if text else None
    except (ValueError, RecursionError):
        record = None
    if not isinstance(record, dict) or record.get("format") not in (FORMAT, *EARLIER_FORMATS):
        raise BadInput(f"{path.name}: is no record that portcall report wrote, or was cut short")
    return record, data


def _carried(data: bytes) -> bytes | str | None:
    if data.startswith(b"%PDF"):
        return _attached(data)
    if data.startswith(b"PK\x03\x04"):
        return _in_a_sheet(data)
    if data.lstrip()[:1] == b"{":
        return data
    found = _IN_A_PAGE.search(data)
    return found[1] if found else None


def _attached(data: bytes) -> bytes | None:
    try:
        from pypdf import PdfReader
    except ImportError:
        raise NotPossibleHere(
            "pypdf: not installed, and needed to read a PDF", "pip install 'portcall[report]'"
        ) from None
    try:
        found = PdfReader(BytesIO(data)).attachments.get(ATTACHED)
    except Exception:
        # A damaged file can raise nearly any error in its reader.
        return None
    return bytes(found[0]) if found else None


def _in_a_sheet(data: bytes) -> str | None:
    from openpyxl import load_workbook

    try:
        rows = load_workbook(BytesIO(data), read_only=True)[SHEET].iter_rows(values_only=True)
        return "".join(str(row[0]) for row in list(rows)[4:] if row and row[0])
    except Exception:
        # A damaged file can raise nearly any error here, too.
        return None
