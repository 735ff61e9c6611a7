"""A job on a device, and its outcome."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from ipaddress import IPv4Address, IPv4Interface

from portcall.core.address import Mac
from portcall.core.finding import Finding, Name
from portcall.core.setting import sentences as say
from portcall.core.setting.had import Had
from portcall.core.setting.whereabouts import Whereabouts
from portcall.core.wire import cip

NO_INTERFACE = IPv4Interface("0.0.0.0/0")
"""What a DCP station is told that is to have no address."""


@dataclass(frozen=True, slots=True)
class Job:
    """A device that is to hold an address. Times are in seconds; a ``wait`` of None has no end.

    ``at`` is where the device is now, None when it has no address. ``name`` is what it is called
    here; ``station_name`` and ``host_name`` are what it is to call itself, None to leave that as it
    is. ``elsewhere`` are addresses where it might turn up instead. With ``force`` it is set even
    when it controls something.
    """

    name: Name
    mac: Mac
    interface: IPv4Interface
    gateway: IPv4Address | None = None
    at: IPv4Address | None = None
    station_name: str | None = None
    host_name: str | None = None
    elsewhere: Sequence[IPv4Address] = ()
    force: bool = False
    back_to: Had | None = None
    """How it was set before, when that is what it is to be brought back to."""
    wait: float | None = 120.0


@dataclass(frozen=True, slots=True)
class Outcome:
    """The outcome of a job; ``by`` is the protocol that did it, None where none could.

    ``before`` and ``after`` are the settings as the device told them.
    """

    done: bool
    by: str | None = None
    before: str | None = None
    after: str | None = None
    seconds: float | None = None
    findings: tuple[Finding, ...] = ()
    identity: cip.Identity | None = None
    """Who it said it is, by CIP."""
    asks: bool = False
    """Whether it asks for its address from its next start."""

    def with_findings(self, *more: Finding) -> Outcome:
        """The same, and more to know about it."""
        return replace(self, findings=(*self.findings, *more))


def not_there(job: Job, device: Whereabouts, now: float) -> Finding:
    """Where a device is that did not come to its address in time."""
    heard = device.last if device.asks is None else None
    address, at = heard or (None, now)
    is_there = address is not None and device.is_at(address)
    return say.DID_NOT_COME(
        address=job.interface.ip,
        protocol=device.asks,
        unheard=device.asks is None and heard is None,
        found_at=address if is_there else None,
        last_at=None if is_there else address,
        seconds=now - at,
    )


def undone(finding: Finding) -> Outcome:
    """Nothing was done, and why."""
    return Outcome(False, findings=(finding,))
