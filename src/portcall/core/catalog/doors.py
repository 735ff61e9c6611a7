"""Doors as people name them: a port number, or what it is called in the trade."""

from __future__ import annotations

from collections.abc import Mapping
from difflib import get_close_matches

from portcall.core.printable import printable
from portcall.core.trouble import BadInput

_HIGHEST = 65_535


def parse_door(text: str, names: Mapping[int, str]) -> int:
    """A port by its number, or by a name of ``names``, in whatever case and spacing.

    A name that several ports go by is the first one; what else people type for them is known, too.
    Raises BadInput, which names those that are spelt nearly so.
    """
    if text.isascii() and text.isdigit():
        if 0 < int(text) <= _HIGHEST:
            return int(text)
        raise BadInput(f"{text}: is no TCP port", f"ports are 1 to {_HIGHEST}")
    wanted = _plain(text)
    for port, name in names.items():
        if wanted and _plain(name) == wanted:
            return port
    if wanted in ALSO_TYPED:
        return ALSO_TYPED[wanted]
    known = list(dict.fromkeys(name.lower() for name in names.values()))
    spelt = {_plain(name): name for name in (*known, *ALSO_TYPED)}
    close = get_close_matches(wanted, spelt, n=2)
    there = f"there are {', '.join(known)}"
    if close:
        there = f"did you mean {' or '.join(spelt[each] for each in close)}? Else {there}"
    raise BadInput(f"{printable(text, 40)}: is no port and no door known here", there)


ALSO_TYPED = {
    "http": 80,
    "https": 443,
    "vnc": 5900,
    "rfb": 5900,
    "ethernetip": 44818,
    "enip": 44818,
    "isotsap": 102,
    "ftpcontrol": 21,
}
"""Other words for doors that people type: names of the protocols, and IANA's service names."""


def _plain(text: str) -> str:
    return "".join(character for character in text.casefold() if character.isalnum())
