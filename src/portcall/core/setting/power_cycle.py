"""Does a device come back with its address after a power cycle?

It is judged by following the device.
"""

from __future__ import annotations

from enum import StrEnum
from ipaddress import IPv4Address

from portcall.core.finding import Finding
from portcall.core.setting import sentences as say
from portcall.core.setting.whereabouts import Asks, At, Left, Whereabout

ASKING_TIME = 10.0
"""Seconds that a device may ask for an address before that is its verdict:

some devices ask first, and take the address they hold when nobody gives one.
"""


class Return(StrEnum):
    """How it came back; the names are part of ``verify --power-cycle --json``."""

    KEPT = "kept"
    ELSEWHERE = "elsewhere"
    ASKING = "asking"
    MISSING = "missing"
    """It went, and did not come back in time."""
    NOT_OFF = "not off"
    """It answered all the time."""


class PowerCycle:
    """Takes what ``Whereabouts`` reports; times are seconds on its clock."""

    def __init__(self, address: IPv4Address) -> None:
        self._address = address
        self._gone_at: float | None = None
        self._asks: Asks | None = None
        self.back: At | None = None
        """Where it answers after it was gone."""

    @property
    def was_off(self) -> bool:
        """Whether it was off: it fell silent, or asked for an address as a starting device does."""
        return self._gone_at is not None

    def take(self, fact: Whereabout) -> None:
        """Take one more fact."""
        if isinstance(fact, Left) and fact.address == self._address:
            self._gone_at, self.back = fact.last, None
        elif isinstance(fact, Asks):
            self._gone_at = self._gone_at if self._gone_at is not None else fact.at
            self._asks, self.back = fact, None
        elif isinstance(fact, At) and self.was_off:
            self.back = fact

    def judged(self, now: float) -> Return | None:
        """How it came back; None while that is open."""
        if not self.was_off:
            return None
        if self.back is not None:
            return Return.KEPT if self.back.address == self._address else Return.ELSEWHERE
        asks = self._asks
        return Return.ASKING if asks is not None and now - asks.at >= ASKING_TIME else None

    def judged_at_last(self) -> Return:
        """How it stands when the time is up."""
        if not self.was_off:
            return Return.NOT_OFF
        return Return.ASKING if self._asks is not None else Return.MISSING

    def seconds(self) -> float | None:
        """From its last word before to its first one after."""
        if self.back is None or self._gone_at is None:
            return None
        return max(self.back.since - self._gone_at, 0.0)

    @property
    def finding(self) -> Finding:
        """The finding."""
        if self.back is not None and self.back.address != self._address:
            return say.BACK_ELSEWHERE(found_at=self.back.address)
        if self.back is not None:
            return say.BACK_THERE(address=self._address, seconds=self.seconds())
        if self._asks is not None:
            return say.BACK_ASKING(protocol=self._asks.protocol)
        return say.NOT_BACK() if self.was_off else say.NOT_OFF()
