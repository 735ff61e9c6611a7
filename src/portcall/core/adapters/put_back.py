"""What came of putting an adapter's addresses and routes back."""

from __future__ import annotations

from dataclasses import dataclass
from ipaddress import IPv4Interface


@dataclass(frozen=True, slots=True)
class NotPutBack:
    """A saved line that the system did not take, or that cannot be read: what it is, and why."""

    line: str
    what: str
    reason: str
    damaged: bool = False
    """Trying again will not help."""

    def __str__(self) -> str:
        return f"{self.what}: {self.reason}"


@dataclass(frozen=True, slots=True)
class PutBack:
    """The result of putting back: addresses whose lifetime has ended, and failures.

    ``leased`` are those that have a lifetime.
    """

    ended: tuple[IPv4Interface, ...] = ()
    left: tuple[NotPutBack, ...] = ()
    leased: tuple[IPv4Interface, ...] = ()


@dataclass(frozen=True, slots=True)
class Removed:
    """Whether an address was there, and what went with it: routes that only it had reached."""

    was_there: bool
    gone: tuple[NotPutBack, ...] = ()
