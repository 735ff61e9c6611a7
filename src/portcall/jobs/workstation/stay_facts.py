"""What a visit tells while it lasts: what it holds or cannot hold, and where its device is."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime, timedelta
from ipaddress import IPv4Address, IPv4Interface, IPv4Network

from portcall.core.adapters.holding import Change, Happened
from portcall.core.address import Mac
from portcall.core.talk.request import AddressProtocol
from portcall.core.trouble import NotPossibleHere
from portcall.site.matches import Lease


@dataclass(frozen=True, slots=True)
class Held:
    """Something happened to what the visit holds, and what it does about it; ``by`` is who did."""

    change: Change
    network: IPv4Network | None = None
    by: str | None = None

    def __str__(self) -> str:
        name, own = self.change.adapter, self.change.interface
        who = f"something on this computer, {self.by} it may be," if self.by else "something"
        match self.change.what:
            case Happened.ADAPTER_GONE:
                return f"{name} is gone from this computer; when it is back, the visit goes on"
            case Happened.ADAPTER_BACK:
                return f"{name} is here again"
            case Happened.LINK_LOST:
                return f"{name} lost its link; when it is back, the visit goes on"
            case Happened.LINK_BACK:
                return f"{name} has its link again"
            case Happened.WENT_WITH_ADAPTER:
                return f"{name}: {own} is put on again"
            case Happened.TAKEN_OFF:
                return f"{name}: {who} took {own} off; it is put on again, this once"
            case Happened.TAKEN_OFF_AGAIN:
                left = f"; have {self.by} leave {name} alone" if self.by else ""
                return (
                    f"{name}: {who} took {own} off again, and it stays off: nothing in "
                    f"{self.network} is reached from here any more{left}"
                )
            case Happened.RESTORED:
                return (
                    f"{name}: portcall restore took {own} off: nothing in {self.network} is "
                    "reached from here any more"
                )
            case Happened.LEASE_ENDED:
                return f"{name}: the lease of {own} has ended; it is asked for again"
        raise AssertionError(self.change.what)


@dataclass(frozen=True, slots=True)
class NotHeld:
    """What the visit added cannot be put on again."""

    interface: IPv4Interface
    because: NotPossibleHere

    def __str__(self) -> str:
        return f"{self.interface} cannot be held: {self.because}"


@dataclass(frozen=True, slots=True)
class Woken:
    """This computer was asleep."""

    seconds: float

    def __str__(self) -> str:
        return f"nothing was looked at for {self.seconds:.0f} s: all is looked at again"


@dataclass(frozen=True, slots=True)
class SomebodyElses:
    """An address of the visit is somebody else's at the end of the cable where it is now."""

    interface: IPv4Interface

    def __str__(self) -> str:
        return f"{self.interface.ip} is another device's there: another address is taken"


@dataclass(frozen=True, slots=True)
class Leased:
    """A lease was asked for again: ``now`` is what came of it, None where nobody gave one."""

    interface: IPv4Interface
    before: Lease
    now: Lease | None

    def __str__(self) -> str:
        if self.now is not None:
            return f"{self.interface} is leased anew, {_until(self.now)}"
        if self.before.seconds_left > 0:
            return (
                f"{self.before.server} does not lengthen the lease of {self.interface}: it stays "
                f"{_until(self.before)}, and is asked for meanwhile"
            )
        return f"{self.before.server} gives no new lease of {self.interface}; it is asked for on"


@dataclass(frozen=True, slots=True)
class Silent:
    """The device does not answer at its address any more."""

    name: str
    address: IPv4Address

    def __str__(self) -> str:
        return f"{self.name} does not answer at {self.address} any more"


@dataclass(frozen=True, slots=True)
class AsksNow:
    """The device asks for an address."""

    name: str
    protocol: AddressProtocol

    def __str__(self) -> str:
        return f"{self.name} asks for an address by {self.protocol}"


@dataclass(frozen=True, slots=True)
class Answers:
    """The device answers at its address, for the first time or again; ``mac`` is who does."""

    name: str
    address: IPv4Address
    mac: Mac

    def __str__(self) -> str:
        who = "" if self.name == str(self.mac) else f", {self.mac},"
        return f"{self.name}{who} answers at {self.address}"


@dataclass(frozen=True, slots=True)
class AnotherDevice:
    """At the address that is visited there is another device now."""

    address: IPv4Address
    before: Mac
    mac: Mac

    def __str__(self) -> str:
        return f"at {self.address} is another device now: {self.mac}, before it was {self.before}"


@dataclass(frozen=True, slots=True)
class WentAlong:
    """The device has another address, and the visit is with it there, or cannot be."""

    name: str
    address: IPv4Address
    trouble: NotPossibleHere | None = None

    def __str__(self) -> str:
        if self.trouble is not None:
            return f"{self.name} is at {self.address} now, and is not followed: {self.trouble}"
        return f"{self.name} is at {self.address} now, and this visit is with it there"


def _until(lease: Lease) -> str:
    return f"until {datetime.now() + timedelta(seconds=lease.seconds_left):%H:%M:%S}"


@dataclass(frozen=True, slots=True)
class NotWatched:
    """The adapters cannot be watched any longer, so that nothing is held."""

    because: Exception

    def __str__(self) -> str:
        return f"from now on nothing is held, and the device is not followed: {self.because}"
