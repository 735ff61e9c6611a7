"""Values of JSON that others may have written; ``core.plain`` makes JSON of values.

What is read is checked here once. A ``Part`` is an object of JSON, and knows its place in the
document: ``get`` and ``each`` leave out what is odd, so that it loses itself alone; ``take`` is for
what nothing can do without, and its complaint names the place.
"""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator
from datetime import UTC, datetime
from ipaddress import IPv4Address, IPv4Interface
from typing import Any, TypeVar, overload

from portcall.core.address import Mac, parse_mac
from portcall.core.printable import LONGEST, DeviceText, printable, told_by_others
from portcall.core.trouble import BadInput

T = TypeVar("T")
D = TypeVar("D")

_ODD = (ValueError, TypeError, OverflowError, RecursionError, BadInput)
"""The errors of a reader that is given something else than it reads."""

_LONGEST = 400
_MOST = 200_000
_HIGHEST = 1e12


class OddDocument(ValueError):
    """A document that lacks what it needs; the sentence names the place."""


class Part:
    """An object of JSON; one that is none is empty."""

    __slots__ = ("_place", "_values")

    def __init__(self, values: object, place: str = "") -> None:
        self._values: dict[str, Any] = values if isinstance(values, dict) else {}
        self._place = place

    def __bool__(self) -> bool:
        return bool(self._values)

    def __iter__(self) -> Iterator[str]:
        return iter(self._values)

    def take(self, key: str, read: Callable[[Any], T]) -> T:
        """A value that has to be there. Raises OddDocument."""
        place = f"{self._place}.{key}".lstrip(".")
        if key not in self._values:
            raise OddDocument(f"{place}: is not there")
        try:
            return read(self._values[key])
        except _ODD as error:
            raise OddDocument(f"{place}: {error}") from None

    @overload
    def get(self, key: str, read: Callable[[Any], T]) -> T | None: ...
    @overload
    def get(self, key: str, read: Callable[[Any], T], default: D) -> T | D: ...
    def get(self, key: str, read: Callable[[Any], T], default: Any = None) -> Any:
        """A value, or what stands for one that is not there or is odd."""
        value = self._values.get(key)
        if value is None:
            return default
        try:
            return read(value)
        except _ODD:
            return default

    def each(self, key: str, read: Callable[[Any], T], most: int = _MOST) -> list[T]:
        """The values of a list, without those that are odd."""
        found = []
        for value in self._list(key)[:most]:
            try:
                found.append(read(value))
            except _ODD:
                continue
        return found

    def has_null(self, key: str) -> bool:
        """Whether a value is there and says that there is none."""
        return key in self._values and self._values[key] is None

    def without(self, *keys: str) -> dict[str, Any]:
        """All values but these, as they are."""
        return {key: value for key, value in self._values.items() if key not in keys}

    def has_list(self, key: str) -> bool:
        """Whether there is a list of that name, if an empty one."""
        return isinstance(self._values.get(key), list)

    def part(self, key: str) -> Part:
        """The object of that name; an empty one where there is none."""
        return Part(self._values.get(key), f"{self._place}.{key}".lstrip("."))

    def parts(self, key: str, most: int = _MOST) -> Iterator[Part]:
        """The objects in the list of that name."""
        place = f"{self._place}.{key}".lstrip(".")
        for number, value in enumerate(self._list(key)[:most]):
            if isinstance(value, dict):
                yield Part(value, f"{place}[{number}]")

    def _list(self, key: str) -> list[Any]:
        value = self._values.get(key)
        return value if isinstance(value, list) else []


def parsed(text: str | bytes) -> object:
    """JSON as it is written; None where it cannot be read."""
    try:
        return json.loads(text)
    except (ValueError, RecursionError):
        return None


def a_text(value: object, longest: int = _LONGEST) -> str:
    """A line of text, of ordinary characters alone. Raises ValueError."""
    if isinstance(value, bool) or not isinstance(value, (str, int, float)):
        raise ValueError("is no text")
    return printable(str(value), longest)


def told_text(value: object, longest: int = LONGEST) -> DeviceText:
    """Text that a device told. Raises ValueError."""
    if not isinstance(value, str):
        raise ValueError("is no text")
    return told_by_others(value, longest)


def a_number(value: object) -> int | float:
    """A number that can be drawn: none below 0, and none too large. Raises ValueError."""
    if isinstance(value, bool) or not isinstance(value, (int, float)):
        raise ValueError("is no number")
    if not 0 <= value < _HIGHEST:
        raise ValueError(f"{value:g} is no number from 0 to {_HIGHEST:g}")
    return value


def a_count(value: object) -> int:
    """A whole number. Raises ValueError."""
    number = a_number(value)
    if number != int(number):
        raise ValueError(f"{number} is no whole number")
    return int(number)


def a_truth(value: object) -> bool:
    """Yes or no. Raises ValueError."""
    if not isinstance(value, bool):
        raise ValueError("is neither true nor false")
    return value


def a_mac(value: object) -> Mac:
    """A MAC. Raises ValueError, BadInput."""
    return parse_mac(a_text(value))


def an_address(value: object) -> IPv4Address:
    """An IPv4 address. Raises ValueError."""
    return IPv4Address(a_text(value))


def an_interface(value: object) -> IPv4Interface:
    """An IPv4 address with its mask. Raises ValueError."""
    return IPv4Interface(a_text(value))


def an_object(value: object) -> dict[str, Any]:
    """An object of JSON as it is. Raises ValueError."""
    if not isinstance(value, dict):
        raise ValueError("is no object")
    return value


def a_moment(value: object) -> datetime:
    """A time; one without a zone is in UTC. Raises ValueError."""
    at = datetime.fromisoformat(a_text(value))
    return at if at.tzinfo is not None else at.replace(tzinfo=UTC)
