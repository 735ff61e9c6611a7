"""Where an instrument keeps in registers what it is: a description that a catalogue entry gives.

Only reading, and little of it: at most 16 values of at most 32 registers each. MODBUS Application
Protocol V1.1b3 §4.4 counts registers from 0 on the wire, and so does this.
"""

from __future__ import annotations

import struct
from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum

from portcall.core.printable import decoded

MOST_VALUES = 16
MOST_REGISTERS = 32
_DIGITS = 7
"""A number of 32 bits with a point has no more that mean anything."""


class Meaning(StrEnum):
    """The meanings that a register can have here."""

    MODEL = "model"
    SERIAL = "serial"
    FIRMWARE = "firmware"
    BATTERY = "battery"
    STATION = "station number"


class Shape(StrEnum):
    """How a value is written in registers."""

    U16 = "u16"
    I16 = "i16"
    U32 = "u32"
    I32 = "i32"
    F32 = "f32"
    TEXT = "text"


_FORMATS = {Shape.U16: ">H", Shape.I16: ">h", Shape.U32: ">I", Shape.I32: ">i", Shape.F32: ">f"}


def length_of(shape: Shape) -> int | None:
    """How many registers a number has; None for text, which says so itself."""
    return struct.calcsize(_FORMATS[shape]) // 2 if shape in _FORMATS else None


@dataclass(frozen=True, slots=True)
class Register:
    """A value in registers: by which function (3 or 4), from which one on, how many, and how.

    ``low_first``: of several registers the first has the low part. ``scale`` multiplies a number,
    ``unit`` stands behind it.
    """

    function: int
    first: int
    count: int
    shape: Shape
    low_first: bool = False
    scale: float = 1.0
    unit: str = ""

    def number(self, octets: bytes) -> int | float | None:
        """The number in some registers, before it is scaled; None for text."""
        if self.shape is Shape.TEXT:
            return None
        found: int | float = struct.unpack(_FORMATS[self.shape], self._ordered(octets))[0]
        return found

    def text(self, octets: bytes) -> str:
        """The value in some registers as it is shown; empty where there is none."""
        number = self.number(octets)
        if number is None:
            return decoded(self._ordered(octets).split(b"\0")[0].strip())
        scaled = number * self.scale
        whole = isinstance(number, int) and self.scale == 1
        shown = str(number) if whole else f"{scaled:.{_DIGITS}g}"
        return f"{shown} {self.unit}".strip()

    def _ordered(self, octets: bytes) -> bytes:
        if not self.low_first:
            return octets
        pairs = [octets[at : at + 2] for at in range(0, len(octets), 2)]
        return b"".join(reversed(pairs))


@dataclass(frozen=True, slots=True)
class Recognition:
    """A register that has one value in every instrument of the product, and in no other."""

    register: Register
    value: int


@dataclass(frozen=True, slots=True)
class Description:
    """A product, and where it keeps what; ``recognition`` tells it where it does not say so."""

    product: str
    maker: str = ""
    kind: str = ""
    recognition: Recognition | None = None
    values: tuple[tuple[Meaning, Register], ...] = ()


def of_product(descriptions: Sequence[Description], product: str) -> Description | None:
    """The description of a product by its name, in upper or lower case, or None."""
    folded = product.strip().casefold()
    return next((each for each in descriptions if each.product.casefold() == folded), None)
