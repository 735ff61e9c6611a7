"""The path of a part inside a device: ``port 2``, ``unit 17``, ``slot 3``, ``slot 3/port 1``.

A port is an interface, by the number that the device has for it; a unit is a Modbus server behind
a gateway; a slot is a place in a rack. ``slot 3/at 10.61.30.5/slot 0`` goes on from the module in
slot 3, by its own network, to the rack at that address.
"""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass
from enum import StrEnum
from ipaddress import IPv4Address
from typing import NamedTuple

from portcall.core.address import parse_address
from portcall.core.printable import printable
from portcall.core.trouble import BadInput


class PartKind(StrEnum):
    """The kinds of parts; the words are part of the plan's file and of the record."""

    PORT = "port"
    UNIT = "unit"
    SLOT = "slot"
    AT = "at"
    """No part by itself: the address of another rack, on the way to its slots."""


HIGHEST = {PartKind.PORT: 65_535, PartKind.UNIT: 247, PartKind.SLOT: 254}
"""Modbus over serial line §2.2 for units; CIP volume 1 §C-1.4.1 for a link address of one octet."""

LOWEST = {PartKind.PORT: 1, PartKind.UNIT: 1, PartKind.SLOT: 0}

_CALLED = {"lan": PartKind.PORT, **{kind.value: kind for kind in PartKind}}
_SLOT, _PORT, _AT = PartKind.SLOT, PartKind.PORT, PartKind.AT
_AROUND = ((_SLOT,), (_SLOT, _AT), (_SLOT, _AT, _SLOT))
"""What has parts of its own: a module, a further rack, a module there. Each is asked by its own way
only, so nothing else is a path."""

_SHAPES = ((_PORT,), (PartKind.UNIT,), (_SLOT,), (_SLOT, _PORT), _AROUND[2], (*_AROUND[2], _PORT))
_STEP = re.compile(r"([a-z]+)[ _-]*([0-9.]+)", re.ASCII)


class Step(NamedTuple):
    """One step of a path; ``number`` is an address as a number where the kind is ``at``."""

    kind: PartKind
    number: int

    def __str__(self) -> str:
        at = self.kind is PartKind.AT
        return f"{self.kind} {IPv4Address(self.number) if at else self.number}"


@dataclass(frozen=True, slots=True, order=True)
class PartPath:
    """Where in a device a part is; ``parse_path`` reads it."""

    steps: tuple[Step, ...]

    def __str__(self) -> str:
        return "/".join(map(str, self.steps))

    @property
    def word(self) -> str:
        """The same without spaces, as it is typed in a line."""
        return str(self).replace(" ", "-")

    @property
    def kind(self) -> PartKind:
        """The kind of the part itself."""
        return self.steps[-1].kind

    @property
    def number(self) -> int:
        """Its number among those of its kind."""
        return self.steps[-1].number

    def below(self, kind: PartKind, number: int) -> PartPath:
        """A part of this part."""
        return PartPath((*self.steps, Step(kind, number)))


TOP = PartPath(())
"""The device itself; its parts are ``below`` it."""


def parse_path(text: str) -> PartPath:
    """Read a path as a person writes it. Raises BadInput."""
    steps = tuple(_step(each, text) for each in text.split("/"))
    if tuple(step.kind for step in steps) not in _SHAPES:
        raise _wrong(text)
    return PartPath(steps)


def parse_around(text: str) -> PartPath:
    """Read what parts are in: a module, a further rack, or nothing. Raises BadInput."""
    steps = tuple(_step(each, text) for each in text.split("/")) if text else ()
    if steps and tuple(step.kind for step in steps) not in _AROUND:
        raise _wrong(text)
    return PartPath(steps)


def _step(word: str, text: str) -> Step:
    found = _STEP.fullmatch(word.strip().casefold())
    kind = _CALLED.get(found[1]) if found else None
    if found is None or kind is None:
        raise _wrong(text)
    if kind is PartKind.AT:
        try:
            return Step(kind, int(IPv4Address(found[2])))
        except ValueError:
            raise _wrong(text) from None
    if not found[2].isdecimal():
        raise _wrong(text)
    number = int(found[2][:6])
    if not LOWEST[kind] <= number <= HIGHEST[kind]:
        raise BadInput(
            f"{printable(text, 60)}: a {kind} has a number from {LOWEST[kind]} to {HIGHEST[kind]}"
        )
    return Step(kind, number)


def _wrong(text: str) -> BadInput:
    return BadInput(
        f"{printable(text, 60)}: is no part of a device",
        "a part is written as port 2, unit 17, slot 3, slot 3/port 1 or slot 3/at ADDRESS/slot 2",
    )


def in_words(numbers: list[int]) -> str:
    """Numbers in short: ``1-16, 18, 20-247``."""
    spans: list[list[int]] = []
    for number in sorted(set(numbers)):
        if spans and number == spans[-1][1] + 1:
            spans[-1][1] = number
        else:
            spans.append([number, number])
    return ", ".join(str(a) if a == b else f"{a}-{b}" for a, b in spans)


def parse_numbers(text: str, kind: PartKind) -> tuple[int, ...]:
    """Read ``1-16,18`` for units or slots. Raises BadInput."""
    found: list[int] = []
    for span in text.split(","):
        first, dash, last = span.strip().partition("-")
        if not (first.isdecimal() and (last.isdecimal() if dash else True)):
            raise BadInput(
                f"{printable(text, 60)}: is no list of numbers", f"{kind}s are written as 1-16,20"
            )
        low, high = int(first[:6]), int((last or first)[:6])
        if not LOWEST[kind] <= low <= high <= HIGHEST[kind]:
            raise BadInput(
                f"{printable(text, 60)}: {kind}s go from {LOWEST[kind]} to {HIGHEST[kind]}, the "
                "lower number first"
            )
        found += range(low, high + 1)
    return tuple(dict.fromkeys(found))


class Wanted(NamedTuple):
    """The parts that a person asked for; None where nobody said which."""

    units: tuple[int, ...] | None = None
    slots: tuple[int, ...] | None = None
    beyond: tuple[tuple[int, IPv4Address], ...] = ()
    """Further racks: the slot that leads there, and the address."""


def parts_wanted(units: str | None, slots: str | None, beyond: Iterable[str]) -> Wanted:
    """What was typed about the parts to ask for. Raises BadInput."""
    return Wanted(
        None if units is None else parse_numbers(units, PartKind.UNIT),
        None if slots is None else parse_numbers(slots, PartKind.SLOT),
        tuple(map(_further_rack, beyond)),
    )


def _further_rack(text: str) -> tuple[int, IPv4Address]:
    slot, equals, address = text.partition("=")
    if not equals:
        raise BadInput(f"{printable(text, 60)}: is no SLOT=ADDRESS", "write 3=10.61.30.5")
    numbers = parse_numbers(slot, PartKind.SLOT)
    if len(numbers) != 1:
        raise BadInput(f"{printable(text, 60)}: a further rack is behind one slot")
    return numbers[0], parse_address(address)
