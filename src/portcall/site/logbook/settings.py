"""The record of what was set in devices: ``settings.jsonl``, one line a step.

Before a device is changed, what it had is on the disk: that is what it takes to undo it, and what
tells a series that is taken up again which rows are done.
"""

from __future__ import annotations

import json
import os
from collections.abc import Iterator
from datetime import UTC, datetime
from errno import ENOSPC
from ipaddress import AddressValueError, IPv4Address
from pathlib import Path
from typing import Any

from portcall.core.address import AddressError, Mac, parse_mac
from portcall.core.find.sighting import Field
from portcall.core.setting.had import Had, read_had
from portcall.core.trouble import NotPossibleHere
from portcall.site.files import open_to_append
from portcall.site.matches import state_folder

FILE = "settings.jsonl"
_IDENTITY = (Field.PRODUCT, Field.SERIAL, Field.FIRMWARE)
_MOST_READ = 4 * 1024 * 1024


class SettingsLog:
    """The record of a site, or without one, of this computer."""

    def __init__(self, folder: Path | None) -> None:
        self.path = (folder or state_folder()) / FILE

    def write_before(self, name: str, mac: Mac, address: IPv4Address, had: Had) -> None:
        """Write down all that is about to be changed; it is on the disk on return.

        ``address`` is the one that is to be set. Raises NotPossibleHere.
        """
        values = {"address": str(address), "by": had.by, "settings": had.settings}
        self._write({"step": "before", "name": name, "mac": str(mac), **values, "had": had.entry})

    def write(self, step: str, name: str, mac: Mac, **values: object) -> None:
        """Write down what came of it, ``done`` or ``not done``. Raises NotPossibleHere."""
        told = {key: None if value is None else str(value) for key, value in values.items()}
        self._write({"step": step, "name": name, "mac": str(mac), **told})

    def _write(self, values: dict[str, object]) -> None:
        now = datetime.now(UTC).isoformat(timespec="milliseconds")
        entry = {"at": now, **values}
        line = json.dumps(entry, ensure_ascii=False) + "\n"
        try:
            with open_to_append(self.path) as file:
                data = line.encode()
                if file.write(data) != len(data):
                    raise OSError(ENOSPC, os.strerror(ENOSPC))
                os.fsync(file.fileno())
        except OSError as error:
            raise NotPossibleHere(
                f"{self.path}: what is set in a device is written down first, and cannot be: "
                f"{error.strerror}; nothing was changed"
            ) from None

    def done(self) -> dict[tuple[str, IPv4Address], Mac]:
        """Which MAC was brought to which address, by the row's name in lower case."""
        found: dict[tuple[str, IPv4Address], Mac] = {}
        for entry in self._entries():
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
        """Who the devices were that were set: product, serial and firmware, by their MACs."""
        found: dict[Mac, dict[Field, str]] = {}
        for entry in self._entries():
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
        for entry in self._entries():
            if entry.get("mac") == str(mac) and entry.get("step") == "before":
                found = read_had(entry.get("by"), entry.get("settings"), entry.get("had")) or found
        return found

    def before_keeping(self, mac: Mac) -> str:
        """The settings that a device had when it still asked for its address; "" when unknown."""
        found = ""
        for entry in self._entries():
            settings = str(entry.get("settings"))
            mine = entry.get("mac") == str(mac) and entry.get("step") == "before"
            if mine and settings.endswith(("by BOOTP", "by DHCP")):
                found = settings
        return found

    def _entries(self) -> Iterator[dict[str, Any]]:
        try:
            with open(self.path, "rb") as file:
                file.seek(max(0, self.path.stat().st_size - _MOST_READ))
                lines = file.read().splitlines()
        except OSError:
            return
        for line in lines:
            try:
                entry = json.loads(line)
            except ValueError:
                continue  # The first line may be cut, and the last one half written.
            if isinstance(entry, dict):
                yield entry
