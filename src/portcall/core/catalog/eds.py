"""EDS: the text in which makers of CIP devices describe them (CIP volume 1, chapter 7, §7-3).

Sections in brackets, entries ``Keyword = value, value;``, ``$`` starts a comment. Of all of it the
catalogue needs who and what the device is: [Device] (§7-3.6.2).
"""

from __future__ import annotations

from portcall.core.catalog.catalog import Catalog, Codes, Numbering, Product
from portcall.core.printable import printable
from portcall.core.trouble import BadInput

_LONGEST = 4_000_000
_NEEDED = ("vendcode", "vendname", "prodcode", "prodname")


def parse_eds(text: str, source: str) -> Catalog:
    """The maker and the product an EDS describes. Raises BadInput naming what is missing."""
    if len(text) > _LONGEST:
        raise BadInput(f"{source}: is no EDS: {len(text):,} characters long")
    entries = _section(text, "device")
    if entries is None:
        raise BadInput(f"{source}: is no EDS: it has no [Device] section")
    missing = [keyword for keyword in _NEEDED if not entries.get(keyword)]
    if missing:
        raise BadInput(f"{source}: [Device] does not say {', '.join(missing)}")
    maker = _number(entries["vendcode"], "VendCode", source)
    product = _number(entries["prodcode"], "ProdCode", source)
    described = Product(
        printable(entries["prodname"], 60), printable(entries.get("prodtypestr", ""), 40)
    )
    return Catalog(
        makers={Codes(Numbering.CIP, maker): printable(entries["vendname"], 40)},
        products={Codes(Numbering.CIP, maker, product): described},
    )


def _number(text: str, keyword: str, source: str) -> int:
    try:
        number = int(text, 0)
    except ValueError:
        number = -1
    if not 0 <= number <= 0xFFFF:
        raise BadInput(f"{source}: {keyword}: {printable(text, 40)}: is not a number to 65535")
    return number


def _section(text: str, wanted: str) -> dict[str, str] | None:
    """The first value of each entry of a section, by keyword in lower case; None without it."""
    inside = None
    entries: dict[str, str] = {}
    found = False
    for statement in _statements(text):
        if statement.startswith("["):
            inside = statement.strip("[]").strip().lower()
            found = found or inside == wanted
        elif inside == wanted:
            keyword, _, value = statement.partition("=")
            entries.setdefault(keyword.strip().lower(), _first_value(value))
    return entries if found else None


def _first_value(value: str) -> str:
    value = value.strip()
    if value.startswith('"'):
        # Long strings go on in the next pair of quotes.
        pieces = value.split('"')
        joined = [pieces[1]]
        for between, piece in zip(pieces[2::2], pieces[3::2], strict=False):
            if between.strip():
                break
            joined.append(piece)
        return "".join(joined)
    return value.split(",")[0].strip()


def _statements(text: str) -> list[str]:
    """Section heads and entries, without comments and line ends; quotes are respected."""
    statements: list[str] = []
    current: list[str] = []
    quoted = comment = False
    first = ""
    for character in text:
        if comment:
            comment = character != "\n"
        elif quoted:
            quoted = character != '"'
            current.append(character)
        elif character == "$":
            comment = True
        elif character == ";" or (character == "]" and first == "["):
            if character == "]":
                current.append(character)
            statements.append("".join(current).strip())
            current = []
            first = ""
        else:
            quoted = character == '"'
            first = first or character.strip()
            current.append(" " if character in "\r\n" else character)
    return [statement for statement in statements if statement]
