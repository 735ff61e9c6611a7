"""Negotiated speed and duplex of an adapter: ethtool's ioctl (linux/ethtool.h)."""

from __future__ import annotations

import fcntl
import socket
import struct
from array import array

_SIOCETHTOOL = 0x8946
_ETHTOOL_GLINKSETTINGS = 0x4C
_SPEED_UNKNOWN = 0xFFFFFFFF
_MASK_WORDS = 15
"""Where struct ethtool_link_settings has link_mode_masks_nwords."""

_LONGEST = 48 + 3 * 4 * 127
"""The fixed part, and three masks of as many words as fit a signed octet."""


def speed_and_duplex(name: str) -> tuple[int | None, bool | None]:
    """Negotiated speed in Mbit/s and full duplex, None where the driver does not say."""
    # An array, because it can tell where in memory it is, which is what the kernel is given.
    request = array("B", struct.pack("=I", _ETHTOOL_GLINKSETTINGS).ljust(_LONGEST, b"\0"))
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as sock:
        try:
            # First call: the kernel answers with how many words its link mode masks have,
            # as a negative number (linux/ethtool.h, struct ethtool_link_settings).
            _ethtool(sock, name, request)
            words = struct.unpack_from("=b", request, _MASK_WORDS)[0]
            struct.pack_into("=I", request, 0, _ETHTOOL_GLINKSETTINGS)
            struct.pack_into("=b", request, _MASK_WORDS, -words)
            _ethtool(sock, name, request)
        except OSError:
            return None, None
    speed, duplex = struct.unpack_from("=IB", request, 4)
    return (
        speed if 0 < speed < _SPEED_UNKNOWN else None,
        {0: False, 1: True}.get(duplex),
    )


def _ethtool(sock: socket.socket, name: str, request: array[int]) -> None:
    ifreq = struct.pack("16sP16x", name.encode()[:15], request.buffer_info()[0])
    fcntl.ioctl(sock, _SIOCETHTOOL, ifreq)
