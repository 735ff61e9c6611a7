"""Telling that a logbook is damaged, once a command, to whoever listens.

Many commands read the logbook for a part of their answer only, deep inside their work. None of them
may pass over that what they read is damaged, so it is told here, and not by each of them.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path

Listener = Callable[[Path, Sequence[object]], None]

_listeners: list[Listener] = []
_told: set[Path] = set()


def listen(listener: Listener) -> None:
    """Have it told to this one only, from now on: the folder, and sentences."""
    _listeners[:] = [listener]
    _told.clear()


def tell(folder: Path, sentences: Sequence[object]) -> None:
    """Tell of a logbook's damage, the first time that it is read."""
    if folder not in _told:
        _told.add(folder)
        for listener in _listeners:
            listener(folder, sentences)
