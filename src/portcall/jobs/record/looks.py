"""A look as it goes into the logbook, and as ``find --json`` prints it."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Any

from portcall.core.find.device import Device
from portcall.core.record.look import device_document
from portcall.jobs.look.looked import Looked


def scope(looked: Looked) -> dict[str, Any]:
    """What a look asked, by which methods, and what kept it from seeing more."""
    look = looked.look
    missing = {each.method for each in look.not_run}
    return {
        "asked": [str(span) for span in look.swept],
        "methods": [method for method in look.methods if method not in missing],
        "not_run": [{"method": each.method, "reason": each.reason} for each in look.not_run],
        "borrowed": [str(each.interface) for each in look.borrowed],
        "interrupted": looked.interrupted,
        "link_losses": looked.cable.losses,
        "cable_out": not looked.cable.has_link,
    }


def look_body(looked: Looked, devices: Iterable[Device], **more: Any) -> dict[str, Any]:
    """All of a look. Remarks are left out: they follow from the rest, and count requests."""
    none: Sequence[str] = ()
    return {**scope(looked), "devices": [device_document(each, none) for each in devices], **more}
