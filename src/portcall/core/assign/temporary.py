"""Temporary addresses: lent for a short time to devices that are not planned, to identify them.

Only DHCP clients get one: they give it back when its time is over, while a BOOTP client would keep
it. There are no more than the range has addresses, so a device that asks with many MACs cannot get
more.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable
from dataclasses import dataclass
from ipaddress import IPv4Address, IPv4Interface, IPv4Network

from portcall.core.address import NO_MAC, AddressRange, Mac
from portcall.core.trouble import BadInput

TEMPORARY_SECONDS = 300
"""Seconds: long enough to look at a device, and over soon after the plan has it."""

MOST_TEMPORARY = 1024
_REST = 60.0
"""Seconds until an address that somebody else has is tried again."""


@dataclass(frozen=True, slots=True)
class Lent:
    """A temporary address, and until when: seconds on the server's clock."""

    mac: Mac
    address: IPv4Address
    until: float


class Pool:
    """The addresses that can be lent, and who has them.

    Times are seconds on the server's clock; ``lent`` is what is still in force from before.
    """

    def __init__(self, span: AddressRange, network: IPv4Network, lent: Iterable[Lent] = ()) -> None:
        self._network = network
        self._span = span
        self._last: dict[Mac, IPv4Address] = {}
        """What a device had last: it gets that again while nobody else has it."""
        self._holders: dict[IPv4Address, Lent] = {}
        self._full_until = float("-inf")
        for entry in lent:
            self.lend(entry)

    def choose(
        self, mac: Mac, now: float, avoid: Collection[IPv4Address] = ()
    ) -> IPv4Interface | None:
        """The address a device has or could have; None when none is left."""
        last = self._last.get(mac)
        if last is not None and last in self._span and self._may_have(mac, last, now, avoid):
            return IPv4Interface((last, self._network.prefixlen))
        if now < self._full_until:
            return None
        for address in self._span:
            if self._may_have(mac, address, now, avoid):
                return IPv4Interface((address, self._network.prefixlen))
        # Remember that the range is full, so that thousands of requests do not search it again.
        self._full_until = min((lent.until for lent in self._holders.values()), default=now)
        return None

    def _may_have(
        self, mac: Mac, address: IPv4Address, now: float, avoid: Collection[IPv4Address]
    ) -> bool:
        holder = self._holders.get(address)
        free = holder is None or holder.until <= now or holder.mac == mac
        return free and address not in avoid

    def lend(self, entry: Lent) -> None:
        """An address was given or offered until then. A longer time, given before, stands."""
        holder = self._holders.get(entry.address)
        if holder is not None and holder.mac == entry.mac and holder.until > entry.until:
            entry = holder
        self._last.pop(entry.mac, None)
        self._last[entry.mac] = entry.address
        self._holders[entry.address] = entry
        if len(self._last) > MOST_TEMPORARY:
            del self._last[next(iter(self._last))]

    def release(self, mac: Mac) -> None:
        """A device gave its address back."""
        address = self._last.pop(mac, None)
        holder = None if address is None else self._holders.get(address)
        if holder is not None and holder.mac == mac:
            del self._holders[holder.address]
            self._full_until = float("-inf")

    def rest(self, address: IPv4Address, now: float) -> None:
        """Somebody who was not given it has the address."""
        if address in self._span:
            self._holders[address] = Lent(NO_MAC, address, now + _REST)


def check_range(
    span: AddressRange, networks: Iterable[IPv4Network], taken: Collection[IPv4Address]
) -> IPv4Network:
    """The subnet that a range of temporary addresses is in. Raises BadInput.

    ``taken`` are addresses that cannot be in it: planned ones, and the workstation's own.
    """
    network = next((n for n in networks if span.first in n and span.last in n), None)
    if network is None:
        raise BadInput(f"{span}: is not inside a subnet that this computer is in")
    if len(span) > MOST_TEMPORARY:
        raise BadInput(f"{span}: has {len(span)} addresses", f"lend at most {MOST_TEMPORARY}")
    for edge in (network.network_address, network.broadcast_address):
        if edge in span:
            raise BadInput(f"{span}: contains {edge}, the network or broadcast number of {network}")
    for address in taken:
        if address in span:
            raise BadInput(f"{span}: contains {address}, which is planned or this computer's own")
    return network
