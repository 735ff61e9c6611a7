"""Taking the address that a machine's service port or a server hands out."""

from __future__ import annotations

import asyncio
import secrets
from contextlib import suppress
from dataclasses import dataclass
from ipaddress import IPv4Interface

from portcall.core.adapters.adapter import Adapter
from portcall.core.adapters.own_address import AddressTaken
from portcall.core.address import AddressError, check_host
from portcall.core.assign.client import Obtained
from portcall.core.assign.lookout import LONGEST, Offer
from portcall.core.finding import Line
from portcall.core.trouble import NotPossibleHere
from portcall.host.addresses import asks_itself
from portcall.host.privilege import Privilege
from portcall.host.rights import require
from portcall.jobs.telling import Tell
from portcall.jobs.workstation.lease import give_back, offers, refuse, take
from portcall.jobs.workstation.match import (
    Matched,
    free_address,
    put_in_force,
    refuse_managed,
    refuse_overlap,
)
from portcall.site.matches import Lease, open_matches
from portcall.site.moment import Moment


@dataclass(frozen=True, slots=True)
class Offered:
    """A server offers an address."""

    offer: Offer

    def __str__(self) -> str:
        offer = self.offer
        mask = f"/{offer.prefix}" if offer.prefix is not None else ", without a mask"
        return f"offered: {offer.address}{mask} by {offer.server} ({offer.server_mac})"


@dataclass(frozen=True, slots=True)
class Asking:
    """A question is out for servers that hand out addresses."""

    adapter: str

    def __str__(self) -> str:
        return f"asking on {self.adapter} who hands out addresses, at most {LONGEST:g} s …"


def best_offer(adapter: Adapter, alone: bool, tell: Tell, taking: bool = True) -> Offer:
    """The offer that came first; tells of every one. Raises NotPossibleHere when there is none."""
    refuse_managed(adapter, alone, tell)
    require(Privilege.NET_RAW, *((Privilege.NET_ADMIN,) if taking else ()))
    tell(Asking(adapter.name))
    found = asyncio.run(offers(adapter, secrets.randbits(32)))
    for offer in found:
        tell(Offered(offer))
    if not found:
        raise NotPossibleHere(
            f"nobody on {adapter.name} hands out addresses; give a TARGET", Line("match", "ADDRESS")
        )
    return found[0]


def match_by_dhcp(
    adapter: Adapter, offer: Offer, alone: bool, probe: bool, tell: Tell, visiting: bool = False
) -> Matched:
    """Take an offer and put it in force for as long as its lease. Raises NotPossibleHere.

    Made again, it lengthens the lease. What is not used is given back, and what somebody else has
    is declined, so that the server does not count it as lent. ``visiting``: this process takes it
    off again.
    """
    began = Moment.now()
    obtained = asyncio.run(take(adapter, offer, secrets.randbits(32)))
    if obtained is None:
        raise NotPossibleHere(
            f"{offer.server} offered {offer.address} and did not give it", "try again"
        )
    interface = obtained.interface
    lease = Lease(obtained.server, obtained.server_mac, obtained.lease_seconds, began)
    added = interface not in adapter.interfaces
    if added:
        try:
            _refuse_useless(adapter, obtained)
        except NotPossibleHere:
            with suppress(OSError):
                give_back(adapter, interface.ip, lease)
            raise
        by_us = probe and not asks_itself()
        if by_us and free_address(adapter, iter((interface.ip,)), tell) is None:
            raise _declined(adapter, obtained)
    if added or _is_by_lease(adapter, interface):
        try:
            put_in_force(adapter, interface, alone, lease, visiting)
        except AddressTaken:
            raise _declined(adapter, obtained) from None
    target = obtained.server if obtained.server in interface.network else None
    return Matched(adapter, interface, target, "DHCP", added, alone, lease)


def _declined(adapter: Adapter, obtained: Obtained) -> NotPossibleHere:
    """Tell the server that somebody has what it gave; what a person is told."""
    with suppress(OSError):
        refuse(adapter, obtained.interface.ip, obtained.server)
    return NotPossibleHere(
        f"{obtained.server} gives {obtained.interface.ip}, and somebody has it", "declined"
    )


def _refuse_useless(adapter: Adapter, obtained: Obtained) -> None:
    interface = obtained.interface
    try:
        if not 1 <= interface.network.prefixlen <= 31:
            raise AddressError(f"{interface}: is no subnet to reach a device in")
        check_host(interface)
    except AddressError as error:
        raise NotPossibleHere(f"{obtained.server} gives an address of no use: {error}") from None
    refuse_overlap(adapter, interface.network)


def _is_by_lease(adapter: Adapter, interface: IPv4Interface) -> bool:
    """Whether the address is there by a lease that an open match tells of."""
    return any(
        (each.mac, each.added) == (adapter.mac, interface) and each.lease is not None
        for each in open_matches()
    )
