"""Rows that are drawn on a terminal as they come, and a line below them."""

from __future__ import annotations

from collections.abc import Callable, Hashable, Mapping, Sequence
from time import monotonic
from typing import Generic, TypeVar

from rich.console import Group
from rich.live import Live
from rich.segment import Segments
from rich.text import Text

from portcall.cli.table import Tone, console

T = TypeVar("T")

_AGAIN = 0.4
"""Seconds until the same rows are drawn again, with what is new about them."""

_PAUSES = 9
"""How many times as long as a drawing takes nothing is drawn."""

_BELOW = 3
"""Lines of the terminal that are not for rows."""


def live() -> Live:
    """What the rows are drawn on; they are gone when it ends."""
    return Live(console=console(), auto_refresh=False, transient=True)


class LiveRows(Generic[T]):
    """The rows stay in the order in which they came: the eye finds them again."""

    def __init__(self, on: Live, table: Callable[[Sequence[T]], Segments]) -> None:
        self._live = on
        self._table = table
        self._order: dict[Hashable, None] = {}
        self._next = float("-inf")
        self._count = -1

    def is_time(self, count: int) -> bool:
        """Whether to draw now; another ``count`` than at the last drawing is news."""
        now = monotonic()
        if now < self._next or (count == self._count and now < self._next + _AGAIN):
            return False
        self._count = count
        return True

    def draw(self, rows: Mapping[Hashable, T], below: str) -> None:
        """Draw the rows, the newest where there is no room for all, and the line below them."""
        began = monotonic()
        self._order = {key: None for key in self._order if key in rows}
        self._order |= dict.fromkeys(rows)
        room = max(self._live.console.height - _BELOW, 1)
        shown = [rows[key] for key in list(self._order)[-room:]]
        hidden = len(rows) - len(shown)
        above = [Text(f"and {hidden} more above", Tone.INFORMATION)] if hidden else []
        now = Text(below, Tone.INFORMATION, overflow="ellipsis", no_wrap=True)
        self._live.update(Group(*above, self._table(shown), now), refresh=True)
        # Drawing a long list takes long, so it is done while the look goes on.
        self._next = monotonic() + _PAUSES * (monotonic() - began)
