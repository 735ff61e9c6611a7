"""Doors as people name them: a port number, or what it is called in the trade."""

from __future__ import annotations

from collections.abc import Mapping

from portcall.core.printable import printable
from portcall.core.trouble import BadInput

_HIGHEST = 65_535


def parse_door(text: str, names: Mapping[int, str]) -> int:
    """A port by its number, or by a name of ``names``, in whatever case and spacing.

    A name that several ports go by is the first one. Raises BadInput.
    """
    if text.isascii() and text.isdigit():
        if 0 < int(text) <= _HIGHEST:
            return int(text)
        raise BadInput(f"{text}: is no TCP port", f"ports are 1 to {_HIGHEST}")
    wanted = _plain(text)
    for port, name in names.items():
        if wanted and _plain(name) == wanted:
            return port
    known = ", ".join(dict.fromkeys(name.lower() for name in names.values()))
    raise BadInput(
        f"{printable(text, 40)}: is no port and no door known here", f"there are {known}"
    )


def _plain(text: str) -> str:
    return "".join(character for character in text.casefold() if character.isalnum())
