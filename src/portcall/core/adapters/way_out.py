"""By which way a packet leaves this computer, as the kernel itself looks it up."""

from __future__ import annotations

from dataclasses import dataclass
from ipaddress import IPv4Address


@dataclass(frozen=True, slots=True)
class WayOut:
    """The adapter, the source address and the router, None where it is on the wire itself.

    ``refused``: there is none, in the kernel's words. ``own``: it is this computer's own address.
    """

    adapter: str | None = None
    source: IPv4Address | None = None
    router: IPv4Address | None = None
    refused: str | None = None
    own: bool = False
