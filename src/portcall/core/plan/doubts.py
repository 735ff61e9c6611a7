"""What in somebody's list can mean two things: it is asked, and never guessed.

Each doubt is a mistake of a line that names what to type: to leave the line out, or to say what is
meant.
"""

from __future__ import annotations

import re
from collections.abc import Collection, Iterator, Mapping, Sequence

from portcall.core.csv_text import TableLine
from portcall.core.plan.reading import Problem
from portcall.core.plan.slips import slip
from portcall.core.printable import printable

_FOOTER = re.compile(r"[^\W\d][\w .-]{1,30}:.*", re.DOTALL)
"""What people write below a list: who checked it, of when it is."""

_ADDRESS = re.compile(r"\d+(?:\.\d+){3}\b.*", re.DOTALL)
_BEHIND = re.compile(r"\d+(?:\.\d+){3}\s*/\s*(\d{1,2})")
_LARGEST_SUBNET = 16
"""The shortest prefix that is certain behind an address; with a shorter one, but for 8, the number
is as likely a port, or the last part of another address."""

_IDENTITY = ("serial", "firmware")
_BARE_NUMBER = re.compile(r"\d{1,4}")
_NAMED_SUBNET = ("subnet", "subnetz", "subred", "podsieci", "segment", "netz")


def doubts(
    rows: Sequence[TableLine],
    cells: Sequence[Mapping[str, str]],
    places: Mapping[str, int],
    headings: Mapping[str, str],
    struck: Collection[int] = (),
) -> Iterator[Problem]:
    """The doubts about some rows, whose ``cells`` are by our columns; ``struck`` are line numbers.

    ``headings`` are what the list calls our columns, ``places`` where they are in a line.
    """
    seen: dict[tuple[str, ...], int] = {}
    for line, cell in zip(rows, cells, strict=True):
        said = tuple(text.strip() for text in line.cells)
        first = seen.setdefault(said, line.number)
        leave = f"to leave it out: --leave {line.number}"
        if line.number in struck:
            yield Problem(
                line.number, None, f"is struck through; {leave}; if it is meant: --struck"
            )
        elif first != line.number:
            yield Problem(line.number, None, f"says the same as line {first}; {leave}")
        elif is_footer(line, cell):
            text = printable(next(filter(None, said)), 60)
            yield Problem(line.number, None, f"{text!r} looks like a footer and no row; {leave}")
        yield from _changed_by_spreadsheets(line, cell)
        yield from _behind_the_address(line, places)
    yield from _is_it_a_mask(rows, cells, headings)


def is_footer(line: TableLine, cell: Mapping[str, str]) -> bool:
    """Whether a line without an address is what people write below a list."""
    filled = [text.strip() for text in line.cells if text.strip()]
    has_address = bool(_ADDRESS.match(cell.get("address", "")))
    return not has_address and len(filled) <= 3 and bool(_FOOTER.fullmatch(filled[0]))


def _changed_by_spreadsheets(line: TableLine, cell: Mapping[str, str]) -> Iterator[Problem]:
    for column in _IDENTITY:
        slipped = slip(column, cell.get(column, ""))
        if slipped is not None:
            yield Problem(line.number, column, slipped)


def _behind_the_address(line: TableLine, places: Mapping[str, int]) -> Iterator[Problem]:
    place = places["address"]
    text = line.cells[place].strip() if place < len(line.cells) else ""
    behind = _BEHIND.fullmatch(text)
    if behind is None or "mask" in places:
        return
    prefix = int(behind[1])
    if prefix != 8 and not _LARGEST_SUBNET <= prefix <= 32:
        hosts = f"{2 ** (32 - prefix):,}" if prefix <= 32 else "no"
        yield Problem(
            line.number,
            "address",
            f"{text}: /{prefix} would be a mask with {hosts} addresses; if it is none, put it in a "
            "note; if it is, give it a column of its own",
        )


def _is_it_a_mask(
    rows: Sequence[TableLine], cells: Sequence[Mapping[str, str]], headings: Mapping[str, str]
) -> Iterator[Problem]:
    """A column that is called after the subnet, with bare numbers: lengths of a mask, or VLANs."""
    words = headings.get("mask", "")
    plain = "".join(character for character in words.casefold() if character.isalpha())
    if plain not in _NAMED_SUBNET:
        return
    told = [(line, cell["mask"]) for line, cell in zip(rows, cells, strict=True) if "mask" in cell]
    if told and all(_BARE_NUMBER.fullmatch(text) for _, text in told):
        line, text = told[0]
        yield Problem(
            line.number,
            "mask",
            f"{text}: may be the length of a mask or the number of a VLAN; say which: --column "
            f'mask="{words}", or to keep it as it is: --keep "{words}"',
        )
