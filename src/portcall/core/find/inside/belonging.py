"""Devices that are one device: an interface of another, by what that tells; or perhaps, by a plate.

A device with two interfaces on one wire is heard as two. Where it tells the MAC of its other
interface, that is certain. Where two MACs say the same product and serial number, it may be one
device or one number twice, and nothing here decides that: it is asked.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from portcall.core.address import Mac
from portcall.core.find import sentences as say
from portcall.core.find.device import Device
from portcall.core.find.remarks import Remark
from portcall.core.find.sighting import Field, FoundPart
from portcall.core.part_path import PartKind


class Belonging:
    """Which of some devices is an interface of which other."""

    def __init__(self, devices: Iterable[Device]) -> None:
        self._owners: dict[Mac, tuple[Device, FoundPart]] = {}
        self._plates: dict[tuple[str, str], list[Device]] = {}
        for device in devices:
            for part in device.parts:
                if part.path.kind is PartKind.PORT:
                    self._owners |= {mac: (device, part) for mac in part.macs if mac != device.mac}
            product, serial = device.value(Field.PRODUCT), device.value(Field.SERIAL)
            if product and serial and device.mac is not None:
                self._plates.setdefault((product, serial), []).append(device)

    def owner_of(self, device: Device) -> tuple[Device, FoundPart] | None:
        """The device that tells this one's MAC as that of an interface of its own, and which."""
        return self._owners.get(device.mac) if device.mac is not None else None

    def remarks(self, device: Device) -> Iterator[Remark]:
        """That it is an interface of another device, or may be."""
        owned = self.owner_of(device)
        if owned is not None:
            owner, part = owned
            name = owner.value(Field.NAME)
            told = say.PORT_OF(
                name=name, mac=owner.mac, part=str(part.path), method=part.method.upper()
            )
            yield Remark(told, told)
            return
        for other in self._alike(device):
            asked = say.SAME_PLATE(mac=other.mac, serial=device.value(Field.SERIAL))
            yield Remark(asked, asked)

    def _alike(self, device: Device) -> list[Device]:
        """The one other device that says the same; of more, the number is no serial number."""
        plate = (device.value(Field.PRODUCT) or "", device.value(Field.SERIAL) or "")
        others = [each for each in self._plates.get(plate, ()) if each.mac != device.mac]
        if len(others) != 1 or self.owner_of(others[0]) is not None:
            return []
        return others
