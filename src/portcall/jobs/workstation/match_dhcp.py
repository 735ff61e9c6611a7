"""Taking the address that a machine's service port or a server hands out."""

from __future__ import annotations

import asyncio
import secrets
from dataclasses import dataclass

from portcall.core.adapters.adapter import Adapter
from portcall.core.address import AddressError, check_host
from portcall.core.assign.lookout import Offer
from portcall.core.trouble import NotPossibleHere
from portcall.host.privilege import Privilege, require
from portcall.jobs.telling import Tell
from portcall.jobs.workstation.lease import offers, take
from portcall.jobs.workstation.match import (
    Matched,
    free_address,
    put_in_force,
    refuse_managed,
    refuse_overlap,
)


@dataclass(frozen=True, slots=True)
class Offered:
    """A server offers an address."""

    offer: Offer

    def __str__(self) -> str:
        offer = self.offer
        mask = f"/{offer.prefix}" if offer.prefix is not None else ", without a mask"
        return f"offered: {offer.address}{mask} by {offer.server} ({offer.server_mac})"


def best_offer(adapter: Adapter, alone: bool, tell: Tell, taking: bool = True) -> Offer:
    """The offer that came first; tells of every one. Raises NotPossibleHere when there is none."""
    refuse_managed(adapter, alone, tell)
    require(Privilege.NET_RAW, *((Privilege.NET_ADMIN,) if taking else ()))
    found = asyncio.run(offers(adapter, secrets.randbits(32)))
    for offer in found:
        tell(Offered(offer))
    if not found:
        raise NotPossibleHere(
            f"nobody on {adapter.name} hands out addresses; give a TARGET: portcall match ADDRESS"
        )
    return found[0]


def match_by_dhcp(adapter: Adapter, offer: Offer, alone: bool, probe: bool, tell: Tell) -> Matched:
    """Take an offer and put it in force for as long as its lease. Raises NotPossibleHere."""
    obtained = asyncio.run(take(adapter, offer, secrets.randbits(32)))
    if obtained is None:
        raise NotPossibleHere(
            f"{offer.server} offered {offer.address} and did not give it; try again"
        )
    interface, lease = obtained.interface, obtained.lease_seconds
    try:
        if not 1 <= interface.network.prefixlen <= 31:
            raise AddressError(f"{interface}: is no subnet to reach a device in")
        check_host(interface)
    except AddressError as error:
        raise NotPossibleHere(f"{obtained.server} gives an address of no use: {error}") from None
    added = interface not in adapter.interfaces
    if added:
        refuse_overlap(adapter, interface.network)
        if probe and free_address(adapter, iter((interface.ip,)), tell) is None:
            raise NotPossibleHere(
                f"{obtained.server} gives {interface.ip}, and somebody has it; not taken"
            )
        put_in_force(adapter, interface, alone, lease)
    target = obtained.server if obtained.server in interface.network else None
    return Matched(adapter, interface, target, "DHCP", added, alone, lease)
