"""The columns of a plan: ours, those a file has besides, and what other people call ours."""

from __future__ import annotations

from collections.abc import Iterable
from difflib import get_close_matches

STARTING = ("name", "mac", "circuit", "address", "mask", "gateway", "kind", "place", "note")
"""The columns of a plan that is begun; the others are added when a row needs them."""

IDENTITY = ("maker", "product", "serial", "firmware")
INSIDE = ("of", "part")
COLUMNS = (*STARTING[:6], "group", *STARTING[6:8], *IDENTITY, *INSIDE, "note")
"""All that have a meaning; a file may have others besides, which stay as they are."""

MEANINGS = {
    "mac": "The MAC on its label.",
    "circuit": "Where a relay agent hears it, for a device without a MAC.",
    "mask": "Its mask, dotted or as a prefix length.",
    "gateway": "The router it should use.",
    "group": "What it belongs to: a cell, a panel, a line.",
    "kind": "What it is: drive, valve island, gateway.",
    "place": "Where it hangs.",
    "maker": "Who should have made it: verify compares that, and the next three.",
    "product": "Which product it should be.",
    "serial": "Which serial number it should have.",
    "firmware": "Which firmware: a version, or a limit such as '>= 5.002'.",
    "of": "The row of the device that this is a part of.",
    "part": "Which part of that: port 2, unit 17, slot 3.",
    "note": "Whatever else.",
}
"""What a row says in each column besides its name and address."""

_ALIKE = 0.75


def extra_columns(columns: Iterable[str]) -> list[str]:
    """The columns of a file that have no meaning here."""
    return [name for name in columns if name and name not in COLUMNS]


def nearly_ours(columns: Iterable[str]) -> dict[str, str]:
    """Columns that are spelt nearly as one of ours, each with ours."""
    found = {}
    for name in columns:
        close = get_close_matches(name.casefold(), COLUMNS, n=1, cutoff=_ALIKE)
        if close:
            found[name] = close[0]
    return found
