"""Where devices were before, as far as this site's records know."""

from __future__ import annotations

from collections.abc import Collection
from ipaddress import IPv4Address

from portcall.core.address import AddressError, Mac, parse_address
from portcall.core.document import Part, an_address
from portcall.core.record.entry import Kind
from portcall.core.trouble import NotPossibleHere
from portcall.site.folder import Site
from portcall.site.logbook.settings import SettingsLog
from portcall.site.logbook.store import Logbook

_LOOKS = (Kind.LOOK, Kind.VERIFICATION)
_LAST_LOOKS = 3
_MOST = 64
"""Addresses that are asked for all of the devices together."""


def places_before(site: Site, macs: Collection[Mac]) -> tuple[IPv4Address, ...]:
    """The addresses at which some devices were seen, set or given, the newest first.

    What cannot be read tells nothing.
    """
    if site.folder is None or not macs:
        return ()
    wanted = {str(mac) for mac in macs}
    found: dict[IPv4Address, None] = {}
    for mac in macs:
        had = SettingsLog(site.folder).had(mac)
        if had is not None and had.interface is not None:
            found[had.interface.ip] = None
    try:
        book = Logbook(site.folder)
        about = book.entries(macs=wanted)
        looks = book.entries(_LOOKS)[-_LAST_LOOKS:]
    except NotPossibleHere:
        return tuple(found)
    for each in reversed(about):
        if each.entry.address:
            try:
                found[parse_address(each.entry.address)] = None
            except AddressError:
                continue
    for _, body in book.with_bodies(looks):
        for device in Part(body).parts("devices"):
            if device.get("mac", str) in wanted:
                found |= dict.fromkeys(device.each("addresses", an_address))
    return tuple(found)[:_MOST]
