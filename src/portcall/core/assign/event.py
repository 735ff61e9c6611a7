"""The events of an assignment."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum
from ipaddress import IPv4Address

from portcall.core.address import Mac
from portcall.core.finding import Finding, Name
from portcall.core.talk.request import AddressProtocol


class EventKind(StrEnum):
    """The kinds of events; the names are part of ``assign --json``."""

    ASKED = "asked"
    OFFERED = "offered"
    ASSIGNED = "assigned"
    DECLINED = "declined"
    ANSWERING = "answering"
    KEPT = "kept"
    IGNORED = "ignored"
    REFUSED = "refused"
    NOTICE = "notice"
    """Something to know that is no step of a device: another server, a link, an edited plan."""


@dataclass(frozen=True, slots=True)
class Event:
    """Something an engineer watching the assignment wants to see.

    ``name`` is the planned row's; a device without one is a stranger, also when it was lent a
    temporary address.
    """

    kind: EventKind
    mac: Mac | None
    protocol: AddressProtocol | None = None
    address: IPv4Address | None = None
    name: Name | None = None
    told: Finding | None = None
    """What else there is to know of it."""
    gave_back: bool = False
    """The device has its address no more."""
    near: tuple[Name, ...] = ()
    """The names of the rows whose MAC is almost that of the device that asked."""
    says: str = ""
    """What the device itself says of who it is."""

    @property
    def detail(self) -> str:
        """A sentence with the details of the event, or nothing."""
        return str(self.told) if self.told is not None else ""
