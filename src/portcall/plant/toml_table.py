"""A TOML table that is read key by key, with every complaint naming the entry and the key."""

from __future__ import annotations

from collections.abc import Callable
from enum import StrEnum
from typing import Any, TypeVar

from portcall.core.printable import printable
from portcall.core.trouble import BadInput

_LONGEST_NAME = 40
_HIGHEST_WORD = 0xFFFF
T = TypeVar("T")
E = TypeVar("E", bound=StrEnum)


class Table:
    """A TOML table whose keys are taken one by one; what is left over is an error."""

    def __init__(self, data: dict[str, Any], place: str) -> None:
        self._data = dict(data)
        self._place = place

    def wrong(self, key: str, what: str) -> BadInput:
        """The exception to raise about a key."""
        return BadInput(f"{self._place}: {key}: {what}")

    def has(self, key: str) -> bool:
        """Whether a key is there."""
        return key in self._data

    def tables(self, key: str) -> list[Table]:
        """The tables in a list; none where the key is not there."""
        value = self._data.pop(key, [])
        if not isinstance(value, list) or not all(isinstance(entry, dict) for entry in value):
            raise self.wrong(key, f"is not a list of tables; write [[{key}]]")
        return [Table(entry, f"{self._place}: {key} {n}") for n, entry in enumerate(value, 1)]

    def text(self, key: str, default: str | None = None, longest: int = _LONGEST_NAME) -> str:
        """A text; without ``default`` it must be there."""
        value = self._data.pop(key, default)
        if value is None:
            raise self.wrong(key, "is missing")
        if not isinstance(value, str) or value != printable(value, longest):
            raise self.wrong(key, f"{printable(repr(value), 40)} is not text of 1 to {longest}")
        return value

    def number(self, key: str, default: float, highest: float) -> float:
        """A number from 0 to ``highest``."""
        value = self._data.pop(key, default)
        if isinstance(value, bool) or not isinstance(value, int | float):
            raise self.wrong(key, f"{printable(repr(value), 40)} is not a number")
        if not 0 <= value <= highest:
            raise self.wrong(key, f"{value} is not 0 to {highest}")
        return value

    def parsed(self, key: str, parse: Callable[[str], T]) -> T:
        """A text as ``parse`` reads it."""
        try:
            return parse(self.text(key))
        except BadInput as error:
            raise self.wrong(key, str(error)) from None

    def parsed_or_none(self, key: str, parse: Callable[[str], T]) -> T | None:
        """The same, or None where the key is not there."""
        return self.parsed(key, parse) if self.has(key) else None

    def one_of(self, key: str, kinds: type[E]) -> E:
        """A text that is one of some."""
        text = self.text(key)
        for kind in kinds:
            if kind.value == text:
                return kind
        raise self.wrong(key, f"{text!r} is none of {', '.join(kinds)}")

    def all_of(self, key: str, kinds: type[E]) -> tuple[E, ...]:
        """A list of texts out of some."""
        values = self._data.pop(key, [])
        known = {kind.value: kind for kind in kinds}
        if not isinstance(values, list) or not all(value in known for value in values):
            shown = printable(repr(values), 60)
            raise self.wrong(key, f"{shown} is not a list out of {', '.join(kinds)}")
        return tuple(known[value] for value in values)

    def numbers(self, key: str, highest: int) -> tuple[int, ...]:
        """A list of whole numbers from 0 to ``highest``."""
        values = self._data.pop(key, [])
        if not isinstance(values, list) or not all(
            type(value) is int and 0 <= value <= highest for value in values
        ):
            shown = printable(repr(values), 40)
            raise self.wrong(key, f"{shown} is not a list of numbers to {highest}")
        return tuple(values)

    def lists(self, key: str) -> dict[str, tuple[str, ...]]:
        """A table of lists of names."""
        value = self._data.pop(key, {})
        if not isinstance(value, dict) or not all(
            isinstance(names, list) and all(isinstance(name, str) for name in names)
            for names in value.values()
        ):
            shown = printable(repr(value), 40)
            raise self.wrong(key, f"{shown} is not a table of lists of names")
        return {each: tuple(names) for each, names in value.items()}

    def words(self, key: str) -> dict[int, int]:
        """A table of registers: from each number on, the words of 16 bits in a list."""
        value = self._data.pop(key, {})
        good = isinstance(value, dict) and all(
            first.isdecimal() and isinstance(words, list) and all(map(_is_word, words))
            for first, words in value.items()
        )
        if not good:
            shown = printable(repr(value), 40)
            raise self.wrong(key, f"{shown} is not a table such as 10 = [1, 65535]")
        return {
            int(first) + n: word for first, words in value.items() for n, word in enumerate(words)
        }

    def flag(self, key: str, default: bool) -> bool:
        """True or false."""
        value = self._data.pop(key, default)
        if not isinstance(value, bool):
            raise self.wrong(key, f"{printable(repr(value), 40)} is neither true nor false")
        return value

    def done(self) -> None:
        """Raise BadInput for a key that nobody took."""
        for key in self._data:
            raise self.wrong(key, "is not a key that is known here")


def _is_word(value: object) -> bool:
    return type(value) is int and 0 <= value <= _HIGHEST_WORD
