"""``[[instruments]]`` of a catalogue file: where an instrument keeps in registers what it is.

The format is described by ``portcall help catalogues``.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from portcall.core.catalog.registers import (
    MOST_REGISTERS,
    MOST_VALUES,
    Description,
    Meaning,
    Recognition,
    Register,
    Shape,
    length_of,
)
from portcall.core.printable import printable
from portcall.core.trouble import BadInput

_FUNCTIONS = (3, 4)
_HIGHEST_REGISTER = 65_535
_LARGEST_NUMBER = 2**32
_REGISTER_KEYS = {"function", "register", "shape", "count", "low_first", "scale", "unit"}


def read_instruments(entries: list[dict[str, Any]], source: str) -> Iterator[Description]:
    """The descriptions of a file. Raises BadInput naming the file, the product and the key."""
    for entry in entries:
        yield _Reading(source, entry).description()


class _Reading:
    """Reads one instrument, naming it in every complaint."""

    def __init__(self, source: str, entry: dict[str, Any]) -> None:
        self._entry = entry
        self._place = f"{source}: instruments"
        self._place = f"{self._place}: {self._text(entry, 'product')}"

    def description(self) -> Description:
        entry = self._entry
        self._only(entry, {"product", "maker", "kind", "recognised", "values"})
        values = entry.get("values", [])
        if not isinstance(values, list) or not all(isinstance(each, dict) for each in values):
            raise self._wrong("values", "is not a list of tables", "write [[instruments.values]]")
        if not 0 < len(values) <= MOST_VALUES:
            raise self._wrong("values", f"has {len(values)}; there are 1 to {MOST_VALUES}")
        return Description(
            self._text(entry, "product"),
            self._text(entry, "maker") if "maker" in entry else "",
            self._text(entry, "kind") if "kind" in entry else "",
            self._recognition(entry["recognised"]) if "recognised" in entry else None,
            tuple(self._value(each) for each in values),
        )

    def _recognition(self, table: object) -> Recognition:
        if not isinstance(table, dict):
            raise self._wrong(
                "recognised", "is no table", "write { function = 3, register = 0, … }"
            )
        self._only(table, _REGISTER_KEYS | {"is"})
        register = self._register(table)
        if register.shape is Shape.TEXT:
            raise self._wrong("recognised", "is told by a number, not by text")
        return Recognition(register, self._number(table, "is", -_LARGEST_NUMBER, _LARGEST_NUMBER))

    def _value(self, table: dict[str, Any]) -> tuple[Meaning, Register]:
        self._only(table, _REGISTER_KEYS | {"means"})
        return self._one_of(table, "means", Meaning), self._register(table)

    def _register(self, table: dict[str, Any]) -> Register:
        shape = self._one_of(table, "shape", Shape)
        count = length_of(shape)
        if count is None:
            count = self._number(table, "count", 1, MOST_REGISTERS)
        elif "count" in table:
            raise self._wrong("count", f"is there, and {shape} has {count}", "leave it out")
        function = self._number(table, "function", min(_FUNCTIONS), max(_FUNCTIONS))
        scale, low_first = table.get("scale", 1), table.get("low_first", False)
        if isinstance(scale, bool) or not isinstance(scale, (int, float)):
            raise self._wrong("scale", f"{printable(repr(scale), 40)} is no number")
        if not isinstance(low_first, bool):
            raise self._wrong("low_first", "is neither true nor false")
        return Register(
            function,
            self._number(table, "register", 0, _HIGHEST_REGISTER + 1 - count),
            count,
            shape,
            low_first,
            scale,
            self._text(table, "unit") if "unit" in table else "",
        )

    def _only(self, table: dict[str, Any], known: set[str]) -> None:
        for key in table:
            if key not in known:
                raise self._wrong(key, f"is none of {', '.join(sorted(known))}")

    def _number(self, table: dict[str, Any], key: str, lowest: int, highest: int) -> int:
        value = table.get(key)
        if type(value) is not int or not lowest <= value <= highest:
            shown = "is missing; it" if key not in table else printable(repr(value), 40)
            raise self._wrong(key, f"{shown} is a whole number from {lowest} to {highest}")
        return value

    def _one_of(self, table: dict[str, Any], key: str, kinds: Any) -> Any:
        for each in kinds:
            if each.value == table.get(key):
                return each
        shown = printable(repr(table.get(key)), 40)
        raise self._wrong(key, f"{shown} is none of {', '.join(kinds)}")

    def _text(self, table: dict[str, Any], key: str) -> str:
        value = table.get(key)
        if not isinstance(value, str) or not printable(value, 60):
            raise self._wrong(key, f"{printable(repr(value), 40)} is not a text in quotes")
        return printable(value, 60)

    def _wrong(self, key: str, what: str, do: str | None = None) -> BadInput:
        return BadInput(f"{self._place}: {printable(key, 40)}: {what}", do)


def as_table(description: Description) -> dict[str, Any]:
    """A description as it is written into a file."""
    optional = {"maker": description.maker, "kind": description.kind}
    table: dict[str, Any] = {"product": description.product}
    table |= {key: text for key, text in optional.items() if text}
    if description.recognition is not None:
        told = _register_table(description.recognition.register)
        table["recognised"] = {**told, "is": description.recognition.value}
    table["values"] = [
        {"means": meaning.value, **_register_table(register)}
        for meaning, register in description.values
    ]
    return table


def _register_table(register: Register) -> dict[str, Any]:
    table: dict[str, Any] = {
        "function": register.function,
        "register": register.first,
        "shape": register.shape.value,
    }
    if register.shape is Shape.TEXT:
        table["count"] = register.count
    if register.low_first:
        table["low_first"] = True
    if register.scale != 1:
        table["scale"] = register.scale
    if register.unit:
        table["unit"] = register.unit
    return table
