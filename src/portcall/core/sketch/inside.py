"""The parts of a device in the picture: those that were found, and those that are planned."""

from __future__ import annotations

from collections.abc import Sequence

from portcall.core.find.device import Device
from portcall.core.find.sighting import Field, FoundPart, PartState
from portcall.core.part_path import PartKind, PartPath
from portcall.core.plan.rows import PlannedDevice
from portcall.core.sketch.picture import Inner, Mark

_STATES = {PartState.NOT_THERE: Mark.NOT_THERE, PartState.SILENT: Mark.NOT_THERE}


def inside(
    device: Device | None,
    rows: Sequence[PlannedDevice],
    is_planned: bool,
    is_drawn_as_planned: bool = False,
) -> tuple[Inner, ...]:
    """What stands inside of a device, which may be one that was not found.

    ``rows`` are those of its parts; ``is_planned``: there is a plan that has the device, so that a
    part without a row is unplanned. ``is_drawn_as_planned``: the plan is drawn, and nobody was
    looked for.
    """
    found = {part.path: part for part in device.parts} if device is not None else {}
    planned = {row.part: row for row in rows if row.part is not None}
    # One interface alone is the device itself, and its own slot is the device, too.
    alone = sum(path.kind is PartKind.PORT and len(path.steps) == 1 for path in found) < 2
    paths = {path for path, part in found.items() if part.is_there and _is_worth(path, alone)}
    own = device.value(Field.SERIAL) if device is not None else None
    if is_drawn_as_planned:
        return tuple(
            Inner(str(path), ", ".join(filter(None, (planned[path].name, _planned(planned[path])))))
            for path in sorted(planned)
        )
    return tuple(
        _inner(path, found.get(path), planned.get(path), is_planned, own)
        for path in sorted({*paths, *planned})
    )


def _is_worth(path: PartPath, alone: bool) -> bool:
    return path.kind is not PartKind.PORT or len(path.steps) > 1 or not alone


def _inner(
    path: PartPath,
    part: FoundPart | None,
    row: PlannedDevice | None,
    is_planned: bool,
    own_serial: str | None,
) -> Inner:
    """One part; that whose serial number is the device's own is the device itself."""
    mark = Mark.NONE
    if part is None:
        mark = Mark.NOT_ASKED
    elif not part.is_there:
        mark = _STATES.get(part.state, Mark.NONE)
    elif own_serial is not None and part.value(Field.SERIAL) == own_serial:
        return Inner(str(path), "itself")
    elif row is None and is_planned and path.kind is not PartKind.PORT:
        mark = Mark.UNPLANNED
    told = ""
    if part is not None and part.is_there:
        told = part.value(Field.PRODUCT) or part.value(Field.DESCRIPTION) or ""
        told = ", ".join(map(str, part.interfaces)) or told
    if row is not None and not told:
        told = _planned(row)
    name = row.name if row is not None else ""
    # What is wrong with it comes before what it is: the end of a line may be cut.
    return Inner(str(path), ", ".join(filter(None, (name, mark.value or told))), mark)


def _planned(row: PlannedDevice) -> str:
    """What a part should be, in a word; of an interface, its address."""
    return (row.expected.product or row.kind) if row.has_no_address else str(row.interface)
