"""A look as it goes into the logbook, and as ``find --json`` prints it."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from portcall.core.find.device import Device
from portcall.core.record.look import device_document
from portcall.jobs.look.look import Look
from portcall.jobs.look.looked import Looked


def scope(looked: Looked) -> dict[str, Any]:
    """What a look asked, by which methods, and what kept it from seeing more."""
    return {
        **scope_of(looked.look),
        "interrupted": looked.interrupted,
        "link_losses": looked.cable.losses,
        "cable_out": not looked.cable.has_link,
    }


def scope_of(look: Look) -> dict[str, Any]:
    """The same of a look that came to its end, as far as the look itself knows."""
    missing = {each.method for each in look.not_run}
    return {
        "asked": [str(span) for span in look.swept],
        "methods": [method for method in look.methods if method not in missing],
        "not_run": [{"method": each.method, "reason": each.reason} for each in look.not_run],
        "borrowed": [str(each.interface) for each in look.borrowed],
    }


def look_body(looked: Looked | Look, devices: Iterable[Device], **more: Any) -> dict[str, Any]:
    """All of a look. Remarks are left out: they follow from the rest, and count requests."""
    seen = [device_document(each, ()) for each in devices]
    about = scope(looked) if isinstance(looked, Looked) else scope_of(looked)
    return {**about, "devices": seen, **more}
