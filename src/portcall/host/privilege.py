"""What a process may be allowed."""

from __future__ import annotations

from enum import IntEnum


class Privilege(IntEnum):
    """What a process may be allowed; the numbers are the bits of linux/capability.h."""

    NET_BIND_SERVICE = 10
    NET_ADMIN = 12
    NET_RAW = 13


FOR = {
    Privilege.NET_BIND_SERVICE: "listening on port 67",
    Privilege.NET_ADMIN: "changing an adapter's addresses",
    Privilege.NET_RAW: "raw Ethernet",
}
"""What each is for, as the subject of a sentence."""
