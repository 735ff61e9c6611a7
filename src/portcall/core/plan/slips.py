"""Slips that spreadsheets and fingers make in a cell, named as what they are."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator

_ADDRESSES = ("address", "mask", "gateway")
_DATE = re.compile(r"\d{4}-\d\d-\d\d( \d\d:\d\d:\d\d)?|\d{1,2}[./]\d{1,2}[./](19|20)\d\d")
_NUMBER = re.compile(r"-?\d+([.,]\d+)?")
_ROUNDED = re.compile(r"\d+([.,]\d+)?E[+-]?\d+", re.IGNORECASE)
_QUAD = re.compile(r"\d{1,3}(\.\d{1,3}){3}")
_LETTERS = str.maketrans({"O": "0", "o": "0", "l": "1", "I": "1", "|": "1"})
_AS_TEXT = "format the column as text, and type it again"


def slip(column: str, text: str) -> str | None:
    """A sentence with the likely slip in a cell that cannot be read, or None.

    ``text`` is the cell as it stands, ``column`` one of the plan's.
    """
    return next(_slips(column, " ".join(text.split())), None)


def _slips(column: str, text: str) -> Iterator[str]:
    if text.startswith("#") and text.rstrip("!?").isupper():
        yield f"{text}: is an error of the spreadsheet; mend the formula in this cell"
    if _DATE.fullmatch(text):
        yield f"{text}: is a date; the spreadsheet made one of what was typed: {_AS_TEXT}"
    if _ROUNDED.fullmatch(text) and column in ("serial", "firmware"):
        yield f"{text}: is a number that the spreadsheet has rounded; {_AS_TEXT}"
    if column == "mac":
        yield from _mac(text)
    elif column in _ADDRESSES:
        yield from _address(text)


def _mac(text: str) -> Iterator[str]:
    if _ROUNDED.fullmatch(text):
        yield f"{text}: is a number that the spreadsheet has rounded; {_AS_TEXT}"
    if text.isdecimal() and 8 <= len(text) < 12:
        yield (
            f"{text}: has {len(text)} digits; a spreadsheet that takes a MAC for a number drops "
            f"the zeros in front: {_AS_TEXT}"
        )
    corrected = re.sub("[Oo]", "0", text)
    if corrected != text and not re.search("[^0-9A-Fa-f:. -]", corrected):
        yield f"{text}: has the letter O where a digit belongs: {corrected}"


def _address(text: str) -> Iterator[str]:
    whole, _, behind = text.partition(" ")
    if _QUAD.fullmatch(whole) and behind:
        # The address is complete: the rest of the text belongs to something else.
        yield f"{text}: has {behind!r} behind the address; put it in a note"
    for mended, what in _MENDED:
        corrected = mended(text)
        if corrected != text and _QUAD.fullmatch(corrected):
            yield f"{text}: {what}; write {corrected}"
    if ":" in text and not _QUAD.match(text) and re.fullmatch("[0-9A-Fa-f:.]+(/[0-9]+)?", text):
        yield f"{text}: is an IPv6 address; the plan has IPv4 addresses"
    if text.casefold() in ("dhcp", "bootp", "auto", "automatic", "dynamic", "dynamisch"):
        yield f"{text}: is how it is given; write the address that the device shall have"
    if _NUMBER.fullmatch(text):
        yield f"{text}: is a number; the spreadsheet took the dots for its own: {_AS_TEXT}"
    found = _QUAD.match(text)
    if found is not None and found[0] != text:
        yield f"{text}: has {text[found.end() :].strip()!r} behind the address; put it in a note"


_MENDED: tuple[tuple[Callable[[str], str], str], ...] = (
    (lambda text: text.replace(",", "."), "has commas where an address has dots"),
    (lambda text: text.replace(";", "."), "has semicolons where an address has dots"),
    (lambda text: text.replace(" ", ""), "has a space in it"),
    (lambda text: text.replace("-", "."), "has hyphens where an address has dots"),
    (lambda text: re.sub(r"\.\.+", ".", text).strip("."), "has a dot too many"),
    (lambda text: text.translate(_LETTERS), "has a letter where a digit belongs"),
)
