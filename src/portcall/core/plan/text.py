"""The text of a plan's file: how its octets are encoded."""

from __future__ import annotations

import codecs
import re
import unicodedata
from typing import NamedTuple

from portcall.core.finding import Line
from portcall.core.printable import printable
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


_OURS = {"utf8": "utf-8"}
_NOT_OF_WORDS = frozenset("‚ƒ„…†‡ˆ‰‹‘“”•–—˜™›¹³²¼½¾ª¿×÷¤¦¨¬¯±´¸¡¢£¥§«»¶·\xad")
"""Signs that the code page has, and that stand in no word: another one has letters there."""

_INSIDE_A_WORD = frozenset("ŠŒŽŸ")
_FOREIGN_RUN = 3
"""Letters beyond ASCII one behind the other: more than languages of that code page have."""

_CANDIDATES = ("cp850", "cp1250", "cp1251", "mac-roman", "cp932", "gbk")


def text_of_a_list(data: bytes, encoding: str | None = None) -> str:
    """The text of somebody's list, in an encoding that is named, or that is sure.

    Raises BadInput where it is no text, or can be in several encodings.
    """
    if encoding is not None:
        try:
            return data.decode(_OURS.get(encoding.casefold(), encoding))
        except LookupError:
            raise BadInput(
                f"--encoding {printable(encoding, 20)}: is no encoding",
                f"there are {', '.join(_CANDIDATES)} and others",
            ) from None
        except UnicodeError:
            raise BadInput(
                f"is not text in {printable(encoding, 20)}", "name another one"
            ) from None
    text, found = decode(data)
    odd = _odd_word(text) if found.codec == _CODE_PAGE else None
    if odd is not None:
        read = {name: _read_as(odd, name) for name in _CANDIDATES}
        shown = ", ".join(f"{word} ({name})" for name, word in read.items() if word)
        raise BadInput(
            f"is in an encoding that is not sure: a word in it is {shown or printable(odd, 40)}",
            "say which: --encoding NAME, or save it as CSV (UTF-8)",
        )
    return text


def _odd_word(text: str) -> str | None:
    """A word that would not be one in the usual code page."""
    words: list[str] = re.findall(r"[^\s;,|\"]+", text)
    return next((word for word in words if not word.isascii() and _is_odd(word)), None)


def _is_odd(word: str) -> bool:
    has_letters = any(each.isalpha() for each in word)
    return (
        any("\udc80" <= each <= "\udcff" for each in word)
        or (has_letters and any(each in _NOT_OF_WORDS for each in word[1:-1]))
        or any(each in _INSIDE_A_WORD for each in word[1:])
        or any(found.search(word) is not None for found in _ODD)
    )


_ODD = (
    re.compile(rf"[^\W\d_a-zA-Z]{{{_FOREIGN_RUN}}}"),
    # Where French has this letter, it is followed by one of these.
    re.compile("[a-zA-Z]œ(?![uid])"),
    # A cube is one of a metre.
    re.compile("[a-zA-Z][a-ln-zA-LN-Z][³²¹]$"),
)


def _read_as(word: str, codec: str) -> str:
    """A word's octets in another encoding; "" where they are no word of one script in that."""
    try:
        read = word.encode(_CODE_PAGE, "surrogateescape").decode(codec)
    except UnicodeError:
        return ""
    letters = [each for each in read if each.isalpha()]
    scripts = {unicodedata.name(each, "").partition(" ")[0] for each in letters}
    is_word = all(each.isalnum() or each in "-_./()+:" for each in read)
    is_mixed = re.search(r"[a-zà-öø-ÿ][A-ZÀ-ÖØ-Þ]", read) is not None
    return printable(read, 40) if is_word and len(scripts) == 1 and not is_mixed else ""
