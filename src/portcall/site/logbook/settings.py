"""The record of what was set in devices: ``settings.jsonl``, one line a step.

Before a device is changed, what it had is on the disk: that is what it takes to undo it, and what
tells a series that is taken up again which rows are done.
"""

from __future__ import annotations

from collections.abc import Mapping
from ipaddress import IPv4Address
from pathlib import Path

from portcall.core.address import Mac
from portcall.core.document import a_mac, a_text, an_address
from portcall.core.find.sighting import Field
from portcall.core.setting.had import Had, read_had
from portcall.core.trouble import NotPossibleHere
from portcall.site.logbook.entries import add_entries, entries
from portcall.site.logbook.who import who
from portcall.site.matches import state_folder

FILE = "settings.jsonl"
_IDENTITY = (Field.PRODUCT, Field.SERIAL, Field.FIRMWARE)


class SettingsLog:
    """The record of a site, or without one, of this computer."""

    def __init__(self, folder: Path | None, adapter: str = "") -> None:
        self.path = (folder or state_folder()) / FILE
        self._adapter = adapter

    def write_before(self, name: str, mac: Mac, address: IPv4Address, had: Had) -> None:
        """Write down all that is about to be changed; it is on the disk on return.

        ``address`` is the one that is to be set. Raises NotPossibleHere.
        """
        values = {"address": address, "by": had.by, "settings": had.settings}
        self._write({"step": "before", "name": name, "mac": mac, **values, "had": had.entry})

    def write(self, step: str, name: str, mac: Mac, **values: object) -> None:
        """Write down what came of it, ``done`` or ``not done``. Raises NotPossibleHere."""
        self._write({"step": step, "name": name, "mac": mac, **values})

    def write_read(self, name: str, mac: Mac, read: Mapping[str, str]) -> None:
        """Write down what a person read at a device, by column. Raises NotPossibleHere."""
        self._write({"step": "read", "name": name, "mac": mac, "read": read})

    def read_by_hand(self) -> dict[Mac, dict[str, str]]:
        """Values that people read at devices which were not set since, by MAC and column."""
        found: dict[Mac, dict[str, str]] = {}
        for entry in entries(self.path):
            mac, step, read = entry.get("mac", a_mac), entry.get("step", a_text), entry.part("read")
            if mac is not None and step == "done":
                found.pop(mac, None)
            elif mac is not None and step == "read":
                found.setdefault(mac, {}).update({key: read.get(key, a_text, "") for key in read})
        return found

    def _write(self, values: dict[str, object]) -> None:
        try:
            add_entries(self.path, {**values, "who": who(), "adapter": self._adapter})
        except OSError as error:
            raise NotPossibleHere(
                f"{self.path}: what is set in a device is written down first, and cannot be: "
                f"{error.strerror}",
                "nothing was changed",
            ) from None

    def done(self) -> dict[tuple[str, IPv4Address], Mac]:
        """Which MAC was brought to which address, by the row's name in lower case."""
        found: dict[tuple[str, IPv4Address], Mac] = {}
        for entry in entries(self.path):
            mac, address = entry.get("mac", a_mac), entry.get("address", an_address)
            is_done = entry.get("step", a_text) == "done"
            if is_done and mac is not None and address is not None:
                name = entry.get("name", a_text, "").casefold()
                # A device is at one address only: its entry for the old address goes.
                found = {k: v for k, v in found.items() if (k[0], v) != (name, mac)}
                found[name, address] = mac
        return found

    def identities(self) -> dict[Mac, dict[Field, str]]:
        """Identities of the devices that were set: product, serial and firmware, by their MACs."""
        found: dict[Mac, dict[Field, str]] = {}
        for entry in entries(self.path):
            said = ((field, entry.get(field.value, a_text)) for field in _IDENTITY)
            told = {field: value for field, value in said if value}
            mac = entry.get("mac", a_mac)
            if told and mac is not None and entry.get("step", a_text) == "done":
                found[mac] = told
        return found

    def had(self, mac: Mac) -> Had | None:
        """How a device was set before it was changed last; None when no record tells."""
        return next(reversed(self._before(mac)), None)

    def before_keeping(self, mac: Mac) -> Had | None:
        """How a device was set when it still asked for its address; None when unknown."""
        return next((had for had in reversed(self._before(mac)) if had.asks), None)

    def _before(self, mac: Mac) -> list[Had]:
        """How a device was set before each change, oldest first."""
        steps = (entry for entry in entries(self.path) if entry.get("mac", a_mac) == mac)
        had = (read_had(step) for step in steps if step.get("step", a_text) == "before")
        return list(filter(None, had))
