"""Changes between two looks at the wire: appeared, vanished, returned, changed."""

from __future__ import annotations

from collections.abc import Hashable, Sequence
from dataclasses import dataclass, replace
from enum import StrEnum

from portcall.core.find.device import Device
from portcall.core.find.sighting import Field, Method

_COMPARED = (Field.NAME, Field.PRODUCT, Field.SERIAL, Field.FIRMWARE, Field.MASK, Field.OBTAINS)


UNASKED_PATIENCE = 90.0
"""Seconds.

DHCP clients ask at least every 64 (RFC 2131 §4.1), and switches announce themselves every 30.
"""

_UNASKED = {Method.LISTEN, Method.LLDP}


class Happened(StrEnum):
    """The changes of a device; the names are part of ``find --watch --json``."""

    APPEARED = "appeared"
    VANISHED = "vanished"
    RETURNED = "returned"
    CHANGED = "changed"


@dataclass(frozen=True, slots=True)
class DeviceChange:
    """A change of one device; ``details`` name the differences in words."""

    happened: Happened
    device: Device
    details: tuple[str, ...] = ()


class DeviceWatch:
    """Compares each look with what is known from the looks before.

    A device has vanished when it was not heard during a whole look, in which it was asked twice. A
    device that only ever speaks unasked is given longer.
    """

    def __init__(self) -> None:
        self._known: dict[Hashable, Device] = {}
        self._gone: set[Hashable] = set()
        self._looks: list[float] = []

    @property
    def vanished_before(self) -> float:
        """Devices that answer, and were not heard since this time, are gone at the look's end."""
        return self._looks[-1] if len(self._looks) > 1 else float("-inf")

    def look_began(self, now: float) -> None:
        """A look begins."""
        self._looks = [*self._looks[-1:], now]

    def _has_vanished(self, device: Device) -> bool:
        patience = 0.0 if set(device.methods) - _UNASKED else UNASKED_PATIENCE
        return device.heard < self.vanished_before - patience

    def is_gone(self, device: Device) -> bool:
        """Whether it was said to have vanished."""
        return _key(device) in self._gone

    def as_it_was(self, device: Device) -> Device:
        """A vanished device as it was last: another may have its address now."""
        if not self.is_gone(device):
            return device
        return replace(self._known[_key(device)], heard=device.heard)

    def compare(self, devices: Sequence[Device], whole_look: bool) -> tuple[DeviceChange, ...]:
        """The changes of these devices.

        Only at the end of a ``whole_look`` can a device have vanished or share an address: in the
        middle of one, another device may just have been put in its place.
        """
        changes = []
        for device in devices:
            key = _key(device)
            before = self._known.get(key)
            if self._has_vanished(device):
                if before is not None and key not in self._gone and whole_look:
                    self._gone.add(key)
                    changes.append(DeviceChange(Happened.VANISHED, self.as_it_was(device)))
                continue
            if before is not None and not whole_look:
                device = replace(device, rivals=before.rivals)
            is_new = before is None or key in self._gone
            if is_new and not (whole_look or _says_what_it_is(device)):
                continue
            if key in self._gone and device.heard < self._looks[-1]:
                continue
            self._known[key] = device
            if before is None:
                changes.append(DeviceChange(Happened.APPEARED, device))
            elif key in self._gone:
                self._gone.discard(key)
                details = _differences(before, device)
                changes.append(DeviceChange(Happened.RETURNED, device, details))
            elif details := _differences(before, device):
                changes.append(DeviceChange(Happened.CHANGED, device, details))
        return tuple(changes)


def _says_what_it_is(device: Device) -> bool:
    """Whether a change can be told now: waiting longer would tell no more about the device."""
    return bool(device.asks or _says(device))


def _says(device: Device) -> str | None:
    """The product or description of a device."""
    return device.value(Field.PRODUCT) or device.value(Field.DESCRIPTION)


def _key(device: Device) -> Hashable:
    return device.mac or device.addresses


def _differences(before: Device, now: Device) -> tuple[str, ...]:
    found = []
    gone = [str(a) for a in before.addresses if a not in now.addresses]
    new = [str(a) for a in now.addresses if a not in before.addresses]
    if new and gone:
        found.append(f"moved from {', '.join(gone)} to {', '.join(new)}")
    elif new:
        found.append(f"now at {', '.join(new)}")
    elif gone:
        found.append(f"no longer at {', '.join(gone)}")
    if now.rivals and not before.rivals:
        found.append(f"its address is shared with {', '.join(str(mac) for mac in now.rivals)}")
    if (says := _says(now)) and not _says(before):
        found.append(f"says it is {says}")
    for field in _COMPARED:
        was, value = before.value(field), now.value(field)
        if was and value and was != value:
            found.append(f"{field} was {was}, is {value}")
    return tuple(found)
