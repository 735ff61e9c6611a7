"""The view of a plan that is being held against the wire: each row when its device is heard."""

from __future__ import annotations

import sys
from collections.abc import Callable, Hashable, Iterator, Sequence
from contextlib import contextmanager
from typing import NamedTuple

from rich.segment import Segments
from rich.text import Text

from portcall.cli.say import wants_json
from portcall.cli.table import Columns, cell, drawn
from portcall.cli.views.devices import addresses, what
from portcall.cli.views.live_rows import LiveRows, live
from portcall.cli.views.progress import progress_bar
from portcall.core.find.device import Device
from portcall.core.find.devices import Gathering
from portcall.core.find.outlook import Outlook
from portcall.core.plan.rows import PlannedDevice


class _Heard(NamedTuple):
    """A planned device, or whoever is at its address, as far as it is known."""

    row: PlannedDevice
    device: Device


@contextmanager
def verifying_view(
    gathering: Gathering, rows: Sequence[PlannedDevice]
) -> Iterator[Callable[[Outlook], None]]:
    """A function that draws which planned devices were heard so far; they are judged at the end.

    Where rows cannot be drawn there is a bar at most.
    """
    if wants_json() or not sys.stdout.isatty():
        with progress_bar() as draw:
            yield draw
        return
    with live() as on:
        heard: LiveRows[_Heard] = LiveRows(on, _table)
        planned = [row.address for row in rows]

        def show(outlook: Outlook) -> None:
            if not heard.is_time(gathering.heard_at(planned)):
                return
            now: dict[Hashable, _Heard] = {
                each.row.name: each for each in _heard(gathering.devices(), rows)
            }
            left = f", about {outlook.seconds_left:.0f} s left" if outlook.stages else ""
            running = ", ".join(outlook.stages)
            heard.draw(now, f"{len(now)} of {len(rows)} heard so far{left}: {running}")

        yield show


def _heard(devices: Sequence[Device], rows: Sequence[PlannedDevice]) -> Iterator[_Heard]:
    """The device of each row: by its MAC, else whoever is at its address."""
    by_mac = {device.mac: device for device in devices if device.mac is not None}
    by_address = {address: device for device in devices for address in device.addresses}
    for row in rows:
        device = by_mac.get(row.mac) if row.mac is not None else None
        device = device or by_address.get(row.address)
        if device is not None:
            yield _Heard(row, device)


def _table(rows: Sequence[_Heard]) -> Segments:
    return drawn(Columns("name", "planned", "is at", "mac", "what", shrinks="what"), rows, _cells)


def _cells(heard: _Heard) -> Sequence[Text]:
    row, device = heard
    return (
        cell(row.name, "bold"),
        cell(row.address),
        cell(addresses(device)),
        cell(device.mac),
        cell(what(device)),
    )
