"""The view of a running look: a row for each device, and below them the running methods."""

from __future__ import annotations

import sys
from collections.abc import Callable, Hashable, Iterator
from contextlib import contextmanager
from time import monotonic

from rich.console import Group
from rich.live import Live
from rich.text import Text

from portcall.cli.table import Tone, console
from portcall.cli.views.devices import rows_of
from portcall.cli.views.progress import progress_bar
from portcall.core.counted import counted
from portcall.core.find.device import Device
from portcall.core.find.devices import Gathering
from portcall.core.find.outlook import Outlook

_AGAIN = 0.4
"""Seconds until the same devices are drawn again, with what is new about them."""

_PAUSES = 9
"""How many times as long as a drawing takes nothing is drawn."""

_BELOW = 3
"""Lines of the terminal that are not for rows."""


@contextmanager
def finding_view(gathering: Gathering, whole: bool) -> Iterator[Callable[[Outlook], None]]:
    """A function that draws the devices found so far, to be called with the look's progress.

    On a terminal, for a list that is for a person; otherwise, and where ``whole`` says that a
    document is to come, there is a bar at most.
    """
    if whole or not sys.stdout.isatty():
        with progress_bar() as draw:
            yield draw
        return
    with Live(console=console(), auto_refresh=False, transient=True) as live:
        yield _Rows(gathering, live).draw


class _Rows:
    """The rows stay in the order in which they came: the eye finds them again."""

    def __init__(self, gathering: Gathering, live: Live) -> None:
        self._gathering = gathering
        self._live = live
        self._order: dict[Hashable, None] = {}
        self._next = float("-inf")

    def draw(self, outlook: Outlook) -> None:
        """Draw what is known now."""
        began = monotonic()
        is_news = self._gathering.count != len(self._order)
        if began < self._next or (not is_news and began < self._next + _AGAIN):
            return
        devices: dict[Hashable, Device] = {
            device.mac or device.addresses: device for device in self._gathering.devices()
        }
        self._order = {key: None for key in self._order if key in devices}
        self._order |= dict.fromkeys(devices)
        room = max(self._live.console.height - _BELOW, 1)
        shown = [devices[key] for key in list(self._order)[-room:]]
        hidden = len(devices) - len(shown)
        above = [Text(f"and {hidden} more above", Tone.INFORMATION)] if hidden else []
        now = Text(_now(outlook, len(devices)), Tone.INFORMATION, overflow="ellipsis", no_wrap=True)
        self._live.update(Group(*above, rows_of(shown), now), refresh=True)
        # Drawing a long list takes long, so it is done while the look goes on.
        self._next = monotonic() + _PAUSES * (monotonic() - began)


def _now(outlook: Outlook, count: int) -> str:
    devices = counted(count, "device")
    running = ", ".join(outlook.stages)
    return f"{devices} so far, about {outlook.seconds_left:.0f} s left: {running}"
