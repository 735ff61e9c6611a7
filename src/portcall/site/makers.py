"""The maker of a device, by its MAC: the site's own table, else a copy of the IEEE registry."""

from __future__ import annotations

import gzip
from collections.abc import Callable, Mapping
from functools import cache
from importlib.resources import files

from portcall.core.address import Mac
from portcall.core.printable import printable

_LOCALLY_ADMINISTERED = 0x02
_SMALL_BLOCKS = "registry.tsv.gz"
"""Made by docs/registry.py."""


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
        maker = printable(str(EUI(mac.octets.hex()).oui.registration().org), 40)
    except NotRegisteredError:
        return None
    return _of_small_block(mac) if maker.casefold() == _SHARED else maker


_SHARED = "ieee registration authority"
"""Who has a block that is given on in small ones: MA-M of 28 bits, MA-S and IAB of 36."""


def _of_small_block(mac: Mac) -> str | None:
    digits, blocks = mac.octets.hex().upper(), _small_blocks()
    return blocks.get(digits[:9]) or blocks.get(digits[:7])


@cache
def _small_blocks() -> dict[str, str]:
    data = gzip.decompress((files("portcall.site") / _SMALL_BLOCKS).read_bytes())
    lines = (line.partition("\t") for line in data.decode().splitlines())
    return {block: printable(maker, 40) for block, _, maker in lines}
