"""Numbers and names in sentences: in words that agree, and never so many that nobody reads them."""

from __future__ import annotations

from collections.abc import Sequence


def counted(count: int, what: str, several: str = "") -> str:
    """So many of something: ``1 device asks``, ``3 devices ask``; by itself it gets an s."""
    return f"{count:,} {what if count == 1 else several or what + 's'}"


def named(names: Sequence[object], most: int, separator: str = ", ") -> str:
    """The first names, and how many more there are."""
    more = len(names) - most
    listed = separator.join(map(str, names[:most]))
    return f"{listed} and {more:,} more" if more > 0 else listed
