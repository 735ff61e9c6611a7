"""EDS: the text in which makers of CIP devices describe them (CIP volume 1, chapter 7, §7-3).

Sections in brackets, entries ``Keyword = value, value;``, ``$`` starts a comment. Of all of it the
catalogue needs who and what the device is: [Device] (§7-3.6.2).

Makers write these files by hand. So what is plainly meant is read: an entry or a section at the
beginning of a line ends what has no semicolon before it, the end of a line ends what has no second
quote, and each of several [Device] sections is a device. What is not plain is refused.
"""

from __future__ import annotations

import re

from portcall.core.catalog.carried import LONGEST
from portcall.core.catalog.catalog import Catalog, Codes, Numbering, Product
from portcall.core.printable import printable
from portcall.core.trouble import BadInput

_MOST_DEVICES = 1_000
_NEEDED = {
    "vendcode": "VendCode",
    "vendname": "VendName",
    "prodcode": "ProdCode",
    "prodname": "ProdName",
}


def parse_eds(text: str, source: str) -> Catalog:
    """The makers and products an EDS describes. Raises BadInput naming what is missing."""
    if len(text) > LONGEST:
        raise BadInput(f"{source}: is no EDS: {len(text):,} characters long")
    devices = _sections(text, "device")
    if not devices:
        raise BadInput(f"{source}: is no EDS: it has no [Device] section")
    if len(devices) > _MOST_DEVICES:
        raise BadInput(
            f"{source}: has {len(devices):,} [Device] sections",
            f"no more than {_MOST_DEVICES:,} are read",
        )
    makers: dict[Codes, str] = {}
    products: dict[Codes, Product] = {}
    for number, entries in enumerate(devices, 1):
        section = "[Device]" if len(devices) == 1 else f"[Device] section {number}"
        missing = [
            keyword for key, keyword in _NEEDED.items() if not printable(entries.get(key, ""), 60)
        ]
        if missing:
            raise BadInput(f"{source}: {section} does not say {', '.join(missing)}")
        maker = _number(entries, "vendcode", f"{source}: {section}")
        product = _number(entries, "prodcode", f"{source}: {section}")
        codes = Codes(Numbering.CIP, maker, product)
        described = Product(
            printable(entries["prodname"], 60), printable(entries.get("prodtypestr", ""), 40)
        )
        if products.setdefault(codes, described) != described:
            raise BadInput(f"{source}: names {codes} twice, and not alike")
        makers.setdefault(Codes(Numbering.CIP, maker), printable(entries["vendname"], 40))
    return Catalog(makers, products)


_NUMBER = re.compile(r"0[xX][0-9a-fA-F]{1,8}|[0-9]{1,8}")


def _number(entries: dict[str, str], key: str, place: str) -> int:
    text = entries[key]
    if _NUMBER.fullmatch(text):
        number = int(text, 16 if text[:2].lower() == "0x" else 10)
        if number <= 0xFFFF:
            return number
    shown = printable(text, 40)
    raise BadInput(f"{place}: {_NEEDED[key]}: {shown}: is not a number to 65535")


def _sections(text: str, wanted: str) -> list[dict[str, str]]:
    """The first value of each entry, by keyword in lower case, of each section of this name."""
    found: list[dict[str, str]] = []
    inside = False
    for statement in _statements(text):
        if statement.startswith("["):
            inside = statement.strip("[]").strip().lower() == wanted
            if inside:
                found.append({})
        elif inside:
            keyword, _, value = statement.partition("=")
            found[-1].setdefault(keyword.strip().lower(), _first_value(value))
    return found


_STRING = re.compile(r'\s*"((?:\\.|[^"\\])*)"')
_ESCAPE = re.compile(r"\\(.)")


def _first_value(value: str) -> str:
    if not value.lstrip().startswith('"'):
        return value.split(",")[0].strip()
    # Long strings go on in the next pair of quotes.
    pieces, at = [], 0
    while string := _STRING.match(value, at):
        pieces.append(_ESCAPE.sub(r"\1", string[1]))
        at = string.end()
    return "".join(pieces).strip()


_BEGINS = re.compile(r"[ \t]*(\[[ \t]*[A-Za-z][^\]\n]*\]|[A-Za-z_]\w*[ \t]*=)")
"""What can only be the beginning of a section or of an entry, at the beginning of a line."""

_ENDS_VALUE = re.compile(r'"[ \t]*+[,;]?[ \t]*+(\$|$)')


def _statements(text: str) -> list[str]:
    """Section heads and entries, without comments and line ends; quotes are respected."""
    statements: list[str] = []
    current: list[str] = []
    first = ""

    def end() -> None:
        nonlocal first
        statement = "".join(current).strip()
        if statement:
            statements.append(statement)
        current.clear()
        first = ""

    for line in text.replace("\r\n", "\n").replace("\r", "\n").split("\n"):
        if first and _BEGINS.match(line):
            end()
        quoted = escaped = False
        for at, character in enumerate(line):
            if quoted:
                current.append(character)
                # A backslash before a quote that ends the value is the last letter of a path.
                ends = character == '"' and not (escaped and not _ENDS_VALUE.match(line, at))
                if ends and escaped:
                    current[-2:] = ['\\\\"']
                quoted = not ends
                escaped = character == "\\" and not escaped
            elif character == "$":
                break
            elif character == ";":
                end()
            elif character == "]" and first == "[":
                current.append(character)
                end()
            else:
                quoted = character == '"'
                first = first or character.strip()
                current.append(character)
        # A string ends with its line, whether its second quote is there or not.
        current.append(("\\" if escaped else "") + '" ' if quoted else " ")
    end()
    return statements
