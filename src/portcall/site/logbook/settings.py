"""The record of what was set in devices: ``settings.jsonl``, one line a step.

Before a device is changed, what it had is on the disk: that is what it takes to undo it, and what
tells a series that is taken up again which rows are done.
"""

from __future__ import annotations

from collections.abc import Mapping
from ipaddress import AddressValueError, IPv4Address
from pathlib import Path

from portcall.core.address import AddressError, Mac, parse_mac
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
        values = {"address": str(address), "by": had.by, "settings": had.settings}
        self._write({"step": "before", "name": name, "mac": str(mac), **values, "had": had.entry})

    def write(self, step: str, name: str, mac: Mac, **values: object) -> None:
        """Write down what came of it, ``done`` or ``not done``. Raises NotPossibleHere."""
        told = {
            key: value if value is None or isinstance(value, bool) else str(value)
            for key, value in values.items()
        }
        self._write({"step": step, "name": name, "mac": str(mac), **told})

    def write_read(self, name: str, mac: Mac, read: Mapping[str, str]) -> None:
        """Write down what a person read at a device, by column. Raises NotPossibleHere."""
        self._write({"step": "read", "name": name, "mac": str(mac), "read": dict(read)})

    def read_by_hand(self) -> dict[Mac, dict[str, str]]:
        """Values that people read at devices which were not set since, by MAC and column."""
        found: dict[Mac, dict[str, str]] = {}
        for entry in entries(self.path):
            try:
                mac, step, read = parse_mac(entry["mac"]), entry["step"], entry.get("read")
            except (KeyError, TypeError, AttributeError, AddressError):
                continue
            if step == "done":
                found.pop(mac, None)
            elif step == "read" and isinstance(read, dict):
                found.setdefault(mac, {}).update({str(k): str(v) for k, v in read.items()})
        return found

    def _write(self, values: dict[str, object]) -> None:
        try:
            add_entries(self.path, {**values, "who": who()._asdict(), "adapter": self._adapter})
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
            try:
                if entry["step"] == "done" and entry.get("address"):
                    name, mac = str(entry["name"]).casefold(), parse_mac(entry["mac"])
                    # It is at one address only: where it was before, it is no more.
                    found = {k: v for k, v in found.items() if (k[0], v) != (name, mac)}
                    found[name, IPv4Address(entry["address"])] = mac
            except (KeyError, TypeError, AddressError, AddressValueError):
                continue
        return found

    def identities(self) -> dict[Mac, dict[Field, str]]:
        """Identities of the devices that were set: product, serial and firmware, by their MACs."""
        found: dict[Mac, dict[Field, str]] = {}
        for entry in entries(self.path):
            told = {field: str(entry[field.value]) for field in _IDENTITY if entry.get(field.value)}
            try:
                if told and entry["step"] == "done":
                    found[parse_mac(entry["mac"])] = told
            except (KeyError, TypeError, AttributeError, AddressError):
                continue
        return found

    def had(self, mac: Mac) -> Had | None:
        """How a device was set before it was changed last; None when no record tells."""
        found = None
        for entry in entries(self.path):
            if entry.get("mac") == str(mac) and entry.get("step") == "before":
                found = read_had(entry.get("by"), entry.get("settings"), entry.get("had")) or found
        return found

    def before_keeping(self, mac: Mac) -> Had | None:
        """How a device was set when it still asked for its address; None when unknown."""
        found = None
        for entry in entries(self.path):
            if entry.get("mac") == str(mac) and entry.get("step") == "before":
                had = read_had(entry.get("by"), entry.get("settings"), entry.get("had"))
                found = had if had is not None and had.asks else found
        return found
