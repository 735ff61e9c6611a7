"""Who made a device, by its MAC: the site's own table, else a copy of the IEEE registry."""

from __future__ import annotations

from collections.abc import Callable, Mapping

from portcall.core.address import Mac
from portcall.core.printable import printable

_LOCALLY_ADMINISTERED = 0x02


def maker_lookup(own: Mapping[str, str]) -> Callable[[Mac], str | None]:
    """A function from MAC to maker's name; ``own`` is as ``Site.makers``."""

    def maker_of(mac: Mac) -> str | None:
        prefix = mac.octets[:3].hex().upper()
        if prefix in own:
            return own[prefix]
        # IEEE 802-2014 §8.4: the registry says nothing of locally administered addresses.
        return None if mac.octets[0] & _LOCALLY_ADMINISTERED else _registered(mac)

    return maker_of


def _registered(mac: Mac) -> str | None:
    # Its index is large: imported only once a device asks for it.
    from netaddr import EUI
    from netaddr.core import NotRegisteredError

    try:
        return printable(str(EUI(mac.octets.hex()).oui.registration().org), 40)
    except NotRegisteredError:
        return None
