"""The view of a running look: a row for each device, and below them the running methods."""

from __future__ import annotations

import sys
from collections.abc import Callable, Hashable, Iterator
from contextlib import contextmanager

from portcall.cli.views.devices import rows_of
from portcall.cli.views.live_rows import LiveRows, live
from portcall.cli.views.progress import progress_bar
from portcall.core.counted import counted
from portcall.core.find.device import Device
from portcall.core.find.devices import Gathering
from portcall.core.find.outlook import Outlook


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
    with live() as on:
        rows: LiveRows[Device] = LiveRows(on, rows_of)

        def show(outlook: Outlook) -> None:
            if rows.is_time(gathering.count):
                devices = gathering.devices()
                by_key: dict[Hashable, Device] = {d.mac or d.addresses: d for d in devices}
                rows.draw(by_key, _now(outlook, len(devices)))

        yield show


def _now(outlook: Outlook, count: int) -> str:
    devices = counted(count, "device")
    running = ", ".join(outlook.stages)
    return f"{devices} so far, about {outlook.seconds_left:.0f} s left: {running}"
