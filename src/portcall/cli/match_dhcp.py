"""``portcall match --dhcp``: some machines hand the laptop its address."""

from __future__ import annotations

import asyncio
import secrets
from datetime import datetime, timedelta

import click

from portcall.cli.main import YES
from portcall.cli.matching import (
    Matched,
    free_address,
    put_in_force,
    refuse_managed,
    refuse_overlap,
    show,
)
from portcall.cli.say import note, print_json
from portcall.core.adapters.adapter import Adapter
from portcall.core.address import AddressError, check_host
from portcall.core.trouble import NotPossibleHere
from portcall.host.jobs.lease import offers, take
from portcall.host.privilege import Privilege, require


def match_by_dhcp(
    adapter: Adapter, replace: bool, no_probe: bool, dry_run: bool, as_json: bool
) -> int:
    """Show every offer, take the first, put it in force for as long as its lease."""
    refuse_managed(adapter, replace)
    require(Privilege.NET_RAW, *(() if dry_run else (Privilege.NET_ADMIN,)))
    found = asyncio.run(offers(adapter, secrets.randbits(32)))
    for offer in found:
        mask = f"/{offer.prefix}" if offer.prefix is not None else ", without a mask"
        note(f"offered: {offer.address}{mask} by {offer.server} ({offer.server_mac})")
    if not found:
        raise NotPossibleHere(
            f"nobody on {adapter.name} hands out addresses; give a TARGET: portcall match ADDRESS"
        )
    if dry_run:
        if as_json:
            print_json({"adapter": adapter.name, "would_ask_for": str(found[0].address)})
        else:
            click.echo(f"would take {found[0].address} from {found[0].server}")
        return YES
    obtained = asyncio.run(take(adapter, found[0], secrets.randbits(32)))
    if obtained is None:
        raise NotPossibleHere(
            f"{found[0].server} offered {found[0].address} and did not give it; try again"
        )
    interface, lease = obtained.interface, obtained.lease_seconds
    try:
        if not 1 <= interface.network.prefixlen <= 31:
            raise AddressError(f"{interface}: is no subnet to reach a device in")
        check_host(interface)
    except AddressError as error:
        raise NotPossibleHere(f"{obtained.server} gives an address of no use: {error}") from None
    if interface not in adapter.interfaces:
        refuse_overlap(adapter, interface.network)
        if not no_probe and free_address(adapter, iter((interface.ip,))) is None:
            raise NotPossibleHere(
                f"{obtained.server} gives {interface.ip}, and somebody has it; not taken"
            )
        put_in_force(adapter, interface, replace, lease)
    target = obtained.server if obtained.server in interface.network else None
    added = interface not in adapter.interfaces
    code = show(Matched(adapter, interface, target, "DHCP", added, replace, lease), as_json)
    if lease is not None:
        end = datetime.now() + timedelta(seconds=lease)
        note(f"the lease ends at {end:%H:%M:%S}, and the address with it: match again before")
    return code
