"""The identity that a planned device should tell, where the plan has one.

Maker, product and serial are the same in upper or lower case, and with any spaces. A firmware may
be a version, or a limit for it: ``5.002``, ``>= 5.002``. Versions are compared number by number.
"""

from __future__ import annotations

import operator
import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass

from portcall.core.printable import printable
from portcall.core.trouble import BadInput

_LIMITS: dict[str, Callable[[tuple[int, ...], tuple[int, ...]], bool]] = {
    ">=": operator.ge,
    "<=": operator.le,
    ">": operator.gt,
    "<": operator.lt,
}
_NUMBERS = re.compile(r"\d{1,9}(?:\.\d{1,9}){0,7}")


@dataclass(frozen=True, slots=True)
class Firmware:
    """The firmware that a device should have: ``limit`` is empty, or how it compares to that."""

    version: str
    limit: str = ""

    def agrees(self, said: str) -> bool:
        """Whether what a device says is what it should be."""
        if not self.limit:
            versions = all(_NUMBERS.fullmatch(each) for each in (said, self.version))
            same = versions and compared(said, self.version) == 0
            return same or alike(said, self.version)
        order = compared(said, self.version)
        return order is not None and _LIMITS[self.limit]((order,), (0,))

    def __str__(self) -> str:
        return f"{self.limit} {self.version}".strip()


@dataclass(frozen=True, slots=True)
class Expected:
    """The planned identity of a device; an empty value is not asked for."""

    maker: str = ""
    product: str = ""
    serial: str = ""
    firmware: Firmware | None = None

    @property
    def asked(self) -> dict[str, str]:
        """The planned values, by the names of their columns, as they are written."""
        words = {"maker": self.maker, "product": self.product, "serial": self.serial}
        words["firmware"] = str(self.firmware or "")
        return {column: word for column, word in words.items() if word}

    def agrees(self, column: str, said: Sequence[str]) -> bool:
        """Whether one of the things that a device said for a column is what is asked for."""
        if column == "firmware" and self.firmware is not None:
            return any(self.firmware.agrees(each) for each in said)
        return any(alike(self.asked[column], each) for each in said)


NOTHING_EXPECTED = Expected()


def parse_firmware(text: str) -> Firmware:
    """Read a firmware's version, or a limit for it. Raises BadInput."""
    plain = printable(text).replace("≥", ">=").replace("≤", "<=")
    limit = next((each for each in _LIMITS if plain.startswith(each)), "")
    version = plain.removeprefix(limit).strip()
    if version.startswith(("=", "<", ">")) or (limit and not _NUMBERS.match(version)):
        raise BadInput(f"{plain}: write a version, or a limit with a number: >= 5.002")
    return Firmware(version, limit)


def compared(one: str, other: str) -> int | None:
    """Less than 0 where a version is older than another, more than 0 where it is newer.

    None where one of them does not start with a number.
    """
    versions = [_version(each) for each in (one, other)]
    if None in versions:
        return None
    first, second = (version or () for version in versions)
    longest = max(len(first), len(second))
    a, b = (each + (0,) * (longest - len(each)) for each in (first, second))
    return (a > b) - (a < b)


def _version(text: str) -> tuple[int, ...] | None:
    found = _NUMBERS.match(text.strip().lstrip("vV"))
    return tuple(int(number) for number in found[0].split(".")) if found else None


def alike(one: str, other: str) -> bool:
    """Whether two texts say the same: in upper or lower case, and with any spaces."""
    return one.casefold().split() == other.casefold().split()
