"""The text of a plan's file: how its octets are encoded."""

from __future__ import annotations

import codecs
from typing import NamedTuple

from portcall.core.finding import Line
from portcall.core.trouble import BadInput

_LARGEST_FILE = 4 * 1024 * 1024


class Encoding(NamedTuple):
    """How the octets of a file are text: a codec, and the byte order mark before it, if any."""

    codec: str
    mark: bytes = b""

    def decode(self, data: bytes) -> str:
        """The text. Raises UnicodeDecodeError."""
        return data[len(self.mark) :].decode(self.codec, self._errors)

    def encode(self, text: str) -> bytes:
        """The octets of a text that may have been changed. Raises UnicodeEncodeError."""
        return self.mark + text.encode(self.codec, self._errors)

    @property
    def _errors(self) -> str:
        # An octet that the code page does not have comes back as it was (PEP 383).
        return "surrogateescape" if self.codec == _CODE_PAGE else "strict"


_CODE_PAGE = "cp1252"
"""What spreadsheets still export; every file that is not Unicode is taken for it."""

_SPREADSHEETS = {
    b"PK\x03\x04": "a spreadsheet's own file (Excel or the like)",
    b"\xd0\xcf\x11\xe0": "an Excel file of the kind before 2007",
}
"""By the octets that such files start with: zip archives, and compound files."""

_MARKED = (
    Encoding("utf-8", codecs.BOM_UTF8),
    Encoding("utf-16-le", codecs.BOM_UTF16_LE),
    Encoding("utf-16-be", codecs.BOM_UTF16_BE),
)


def decode(data: bytes) -> tuple[str, Encoding]:
    """The text of a plan's file, and how it is encoded. Raises BadInput when it is no text."""
    if len(data) > _LARGEST_FILE:
        raise BadInput(f"has {len(data)} octets", f"a plan has at most {_LARGEST_FILE}")
    kind = next((kind for mark, kind in _SPREADSHEETS.items() if data.startswith(mark)), None)
    if kind is not None:
        raise BadInput(
            f"is {kind}, and not the plan's CSV; give it another name, and take its rows",
            Line("plan import", "FILE"),
        )
    marked = next((each for each in _MARKED if data.startswith(each.mark)), None)
    control = next((o for o in data if o < 32 and o not in b"\t\r\n"), None)
    if control is not None and (marked is None or marked.codec == "utf-8"):
        raise BadInput(
            f"is not text (it has an octet {control:#04x})",
            "save it from the spreadsheet as CSV (UTF-8)",
        )
    try:
        encoding = marked or Encoding("utf-8")
        return encoding.decode(data), encoding
    except UnicodeDecodeError:
        if marked is not None and marked.codec != "utf-8":
            raise BadInput("is not text", "save it from the spreadsheet as CSV (UTF-8)") from None
    encoding = Encoding(_CODE_PAGE)
    return encoding.decode(data), encoding
