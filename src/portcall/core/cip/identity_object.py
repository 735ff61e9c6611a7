"""The identity object of a CIP device: who it is, and whether it controls something.

The CIP Networks Library, volume 1, §5-2.
"""

from __future__ import annotations

from portcall.core.cip.session import Part, exchange
from portcall.core.wire import cip, cip_message

_OWNED = 1 << 0
_EXTENDED, _RUNNING = 0x00F0, 0x0060
"""Volume 1 §5-2.2.1.5: status bit 0, and bits 4 to 7, "at least one I/O connection in run mode"."""

RESET = cip_message.Request(cip_message.IDENTITY, 1, None, cip_message.RESET, b"\0")
"""Tells the device to start again (volume 1 §5-2.3.1)."""


def ask_identity() -> Part[cip.Identity | None]:
    """The identity by List Identity, which needs no session; None for silence. Raises Malformed."""
    reply = yield exchange(cip.encode_list_identity())
    return None if reply is None else cip.parse_identity(cip.parse(reply))


def controls(identity: cip.Identity) -> str | None:
    """Why a device is better left alone: what it is doing, or None when it is idle."""
    if identity.status & _EXTENDED == _RUNNING:
        return "an I/O connection of it is in run mode"
    if identity.status & _OWNED:
        return "a controller owns it"
    return None
