"""A look as it goes into the logbook, and as ``find --json`` prints it."""

from __future__ import annotations

from collections.abc import Collection, Iterable
from typing import Any

from portcall.core.find.device import Device
from portcall.core.find.switch_tables import tables_document
from portcall.core.record.look import device_document
from portcall.jobs.look.look import Look
from portcall.jobs.look.looked import Looked


def scope(looked: Looked, devices: Iterable[Device]) -> dict[str, Any]:
    """The scope of a look: its questions, its methods, its limits, and the wiring."""
    return {
        **scope_of(looked.look, devices),
        "interrupted": looked.interrupted,
        "link_losses": looked.cable.losses,
        "cable_out": not looked.cable.has_link,
    }


def scope_of(look: Look, devices: Iterable[Device]) -> dict[str, Any]:
    """The same of a look that came to its end, as far as the look itself knows."""
    missing = {each.method for each in look.not_run}
    known = {each.mac for each in devices if each.mac is not None}
    known |= {mac for switch in look.switches for mac in switch.macs}
    own = look.adapter.mac
    if own is not None:
        known.add(own)
    return {
        "asked": [str(span) for span in look.swept],
        "methods": [method for method in look.methods if method not in missing],
        "not_run": [{"method": each.method, "reason": each.reason} for each in look.not_run],
        "borrowed": [str(each.interface) for each in look.borrowed],
        "workstation": {
            "mac": str(own) if own else None,
            "addresses": [str(each) for each in look.adapter.interfaces],
        },
        "switches": [tables_document(each, known) for each in look.switches],
    }


def look_body(looked: Looked | Look, devices: Collection[Device], **more: Any) -> dict[str, Any]:
    """All of a look. Remarks are left out: they follow from the rest, and count requests."""
    seen = [device_document(each) for each in devices]
    of = scope(looked, devices) if isinstance(looked, Looked) else scope_of(looked, devices)
    return {**of, "devices": seen, **more}
