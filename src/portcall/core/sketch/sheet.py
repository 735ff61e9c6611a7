"""A sheet of paper, and what stands on it; in points (1/72 inch), downwards from its upper edge."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import NamedTuple


class Paper(NamedTuple):
    """A sheet, lying; in points."""

    width: float
    height: float


PAPERS = {"a4": Paper(841.9, 595.3), "a3": Paper(1190.6, 841.9)}
"""ISO 216."""


class Box(NamedTuple):
    """A rectangle; ``y`` is its upper edge, downwards from that of the sheet."""

    x: float
    y: float
    width: float
    height: float
    style: str

    @property
    def right(self) -> float:
        """Its right edge."""
        return self.x + self.width

    @property
    def bottom(self) -> float:
        """Its lower edge."""
        return self.y + self.height


class Wire(NamedTuple):
    """A line, across or down."""

    x: float
    y: float
    to_x: float
    to_y: float


class Words(NamedTuple):
    """A text that begins at ``x``, standing on ``y``."""

    x: float
    y: float
    text: str
    size: float
    bold: bool = False
    tone: str = ""


@dataclass(slots=True)
class Sheet:
    """The contents of one sheet."""

    paper: Paper
    boxes: list[Box] = field(default_factory=list)
    wires: list[Wire] = field(default_factory=list)
    words: list[Words] = field(default_factory=list)
