"""When something was written down: by the clock on the wall, and by the one that nobody sets.

The wall's clock may be set by hours while something is open. How long ago a thing was is told by
the time since the computer's start, which also counts while it sleeps; only after a restart the
wall's clock is all there is.
"""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any

from portcall.core.document import OddDocument, Part, a_moment, a_number, a_text
from portcall.system import seconds_up, this_start


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
        return cls(datetime.now(UTC), this_start(), seconds_up())

    @property
    def is_certain(self) -> bool:
        """Whether ``elapsed`` is: not so after a restart, when the clock may have been set."""
        return self.boot is not None and self.boot == this_start()

    @property
    def elapsed(self) -> float:
        """Seconds since then; never less than none."""
        if self.is_certain:
            return max(seconds_up() - self.uptime, 0.0)
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
