"""Text from the network is hostile until it has been through here."""

from __future__ import annotations

import re
import unicodedata
from functools import lru_cache

LONGEST = 120
_RUN_BY_SPREADSHEETS = ("=", "+", "-", "@", "\t")


def printable(text: str, longest: int = LONGEST) -> str:
    """One line of ordinary characters, at most ``longest`` of them.

    Control, format and private-use characters, surrogates and unassigned code points (Unicode
    general category C), and line and paragraph separators become a space: nothing that could move
    the cursor, colour the terminal or turn the reading direction gets through.
    """
    kept = text[: longest * 4]
    if not kept.isprintable():  # Nearly every text is, and a look holds 100,000 of them.
        kept = "".join(
            " "
            if unicodedata.category(character)[0] == "C" or character in "\u2028\u2029"
            else character
            for character in kept
        )
    line = " ".join(kept.split())
    return line if len(line) <= longest else line[: longest - 1] + "…"


class DeviceText(str):
    """Text that others chose: what a device says, made printable where it came in.

    It is shown, and compared. No line to type can hold it (``core.finding.Line``).
    """

    __slots__ = ()


NO_TEXT = DeviceText("")

_OUR_NAME = re.compile("portcall(?!·)", re.IGNORECASE)


def told_by_others(text: str, longest: int = LONGEST) -> DeviceText:
    """A device's text, made printable, in which no line to type can stand.

    A line that this tool advises begins with its name. A device that has this name in its text gets
    a dot behind it, which no shell and no code of ours takes for the beginning of a line to type.
    """
    return DeviceText(printable(_OUR_NAME.sub(r"\g<0>·", text), longest))


@lru_cache(maxsize=1024)
def decoded(data: bytes, longest: int = LONGEST) -> DeviceText:
    """Text that a device sent, as UTF-8 or else Latin-1, as ``told_by_others`` makes it."""
    try:
        text = data.decode("utf-8")
    except UnicodeDecodeError:
        text = data.decode("latin-1")
    return told_by_others(text, longest)


def for_spreadsheets(text: str) -> str:
    """The text as a cell that no spreadsheet takes for a formula: others choose these texts."""
    return f"'{text}" if text.startswith(_RUN_BY_SPREADSHEETS) else text


def from_spreadsheets(text: str) -> str:
    """The text of a cell that was written by ``for_spreadsheets``."""
    plain = text.removeprefix("'")
    return plain if plain.startswith(_RUN_BY_SPREADSHEETS) else text
