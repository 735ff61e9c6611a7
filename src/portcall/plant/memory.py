"""The memory of a simulated device: settings held, settings in force, and changes of them."""

from __future__ import annotations

import asyncio
from collections.abc import Callable
from dataclasses import dataclass, field
from enum import Enum
from ipaddress import IPv4Address, IPv4Interface

from portcall.core.part_path import PartPath
from portcall.plant.scenario import Asks, DeviceEntry, Setting

_LINGERING = 0.7
"""Seconds."""


class Verdict(Enum):
    """The fates of an attempt to set something."""

    DONE = "done"
    REFUSED = "refused"
    CUT = "cut"
    """The device closes the connection instead of answering."""


@dataclass(slots=True)
class Memory:
    """``stored``, ``asks`` and the names outlive a power cycle; ``interface`` is in force.

    ``apply`` puts what is stored in force, ``restart`` starts the device again.
    """

    entry: DeviceEntry
    apply: Callable[[], None]
    restart: Callable[[], None]
    asks: Asks | None = field(init=False)
    other_port: IPv4Interface | None = field(init=False)
    stored: IPv4Interface | None = field(init=False)
    stored_gateway: IPv4Address | None = field(init=False)
    host_name: str = field(init=False)
    station_name: str = field(init=False)
    interface: IPv4Interface | None = None
    gateway: IPv4Address | None = None
    legs: list[IPv4Interface] = field(init=False)
    """The addresses on the other wires that it is on."""
    missing: set[PartPath] = field(default_factory=set)
    """Parts that are gone, or do not answer."""
    line: asyncio.Lock = field(default_factory=asyncio.Lock)
    """The serial line behind it."""
    shown: int = 0
    """How often it was told to show itself."""
    sends_pieces_of: int = 0
    """Octets of its description in each piece, once it was told to send that; 0 before."""
    next_piece: int = 0
    _attempts: int = 0

    def __post_init__(self) -> None:
        self.asks, self.other_port = self.entry.asks, self.entry.other_port
        self.legs = [leg.address for leg in self.entry.legs]
        self.stored, self.stored_gateway = self.entry.address, self.entry.gateway
        self.host_name, self.station_name = self.entry.host_name, self.entry.station_name

    def set_asks(self, asks: Asks | None) -> Verdict:
        """From its next start, ask; or, with None, hold what is in force from now on."""

        def change() -> None:
            if asks is None and self.asks is not None:
                self.stored, self.stored_gateway = self.interface, self.gateway
            elif asks is not None:
                self.stored = None
            self.asks = asks
            self.apply()

        return self._set(change)

    def set_address(
        self,
        interface: IPv4Interface | None,
        gateway: IPv4Address | None,
        lasting: bool = True,
        at_once: bool = True,
    ) -> Verdict:
        """Take an address: now, or at the next start, for which some devices wait anyway."""

        def change() -> None:
            if lasting:
                self.stored, self.stored_gateway = interface, gateway
            if at_once and self.entry.setting is not Setting.RESTARTS:
                self.interface, self.gateway = interface, gateway
                self.apply()

        return self._set(change)

    def set_leg(self, number: int, interface: IPv4Interface) -> Verdict:
        """Take an address on another wire that it is on."""

        def change() -> None:
            self.legs[number] = interface
            self.apply()

        return self._set(change)

    def set_host_name(self, name: str) -> Verdict:
        """Be called so."""

        def change() -> None:
            self.host_name = name

        return self._set(change)

    def set_station_name(self, name: str) -> Verdict:
        """Be called so by DCP."""

        def change() -> None:
            self.station_name = name

        return self._set(change)

    def _set(self, change: Callable[[], None]) -> Verdict:
        self._attempts += 1
        setting = self.entry.setting
        if setting is Setting.REFUSES:
            return Verdict.REFUSED
        if setting is Setting.DROPS and self._attempts == 2:
            return Verdict.CUT
        if setting is Setting.LINGERS:
            asyncio.get_running_loop().call_later(_LINGERING, change)
        elif setting is not Setting.IGNORES:
            change()
        return Verdict.DONE
