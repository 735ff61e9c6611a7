"""By what a command knows the device that it is about."""

from __future__ import annotations

from enum import Enum, auto


class By(Enum):
    """The word for a device that a command takes: its address, or the device wherever it is."""

    ADDRESS = auto()
    DEVICE = auto()
