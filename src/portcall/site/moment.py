"""When something was written down: by the clock on the wall, and by the one that nobody sets.

The wall's clock may be set by hours while something is open. How long ago a thing was is told by
the time since the computer's start (CLOCK_BOOTTIME, clock_gettime(2)), which also counts while it
sleeps; only after a restart the wall's clock is all there is.
"""

from __future__ import annotations

import time
from dataclasses import dataclass
from datetime import UTC, datetime
from functools import cache
from pathlib import Path
from typing import Any

from portcall.core.document import OddDocument, Part, a_moment, a_number, a_text

_BOOT_ID = Path("/proc/sys/kernel/random/boot_id")


@dataclass(frozen=True, slots=True)
class Moment:
    """A point in time: in UTC, and in seconds since a start of the computer, which ``boot`` names.

    Without ``boot`` only the first is known.
    """

    at: datetime
    boot: str | None = None
    uptime: float = 0.0

    @classmethod
    def now(cls) -> Moment:
        """This one."""
        return cls(datetime.now(UTC), _this_boot(), time.clock_gettime(time.CLOCK_BOOTTIME))

    @property
    def is_certain(self) -> bool:
        """Whether ``elapsed`` is: not so after a restart, when the clock may have been set."""
        return self.boot is not None and self.boot == _this_boot()

    @property
    def elapsed(self) -> float:
        """Seconds since then; never less than none."""
        if self.is_certain:
            return max(time.clock_gettime(time.CLOCK_BOOTTIME) - self.uptime, 0.0)
        return max((datetime.now(UTC) - self.at).total_seconds(), 0.0)

    @property
    def entry(self) -> dict[str, Any]:
        """As it is written into a file."""
        return {"at": self.at.isoformat(), "boot": self.boot, "uptime": self.uptime}


def read_moment(entry: Part) -> Moment:
    """A moment as it was written; a time without a zone is UTC. Raises OddDocument."""
    at = entry.take("at", a_moment)
    try:
        # The first and the last day that there are cannot be told in every zone.
        at.astimezone()
    except OverflowError as error:
        raise OddDocument(f"at: {error}") from None
    boot, uptime = entry.get("boot", a_text), entry.get("uptime", a_number)
    if boot is None or uptime is None:
        return Moment(at)
    return Moment(at, boot, float(uptime))


@cache
def _this_boot() -> str | None:
    try:
        return _BOOT_ID.read_text(encoding="ascii").strip()
    except (OSError, ValueError):
        return None
