"""What this process may do: Linux capabilities, not the user's name."""

from __future__ import annotations

import shlex
import sys
from enum import IntEnum
from pathlib import Path

from portcall.core.trouble import NotPossibleHere


class Privilege(IntEnum):
    """Bit numbers from linux/capability.h."""

    NET_BIND_SERVICE = 10
    NET_ADMIN = 12
    NET_RAW = 13


_FOR = {
    Privilege.NET_BIND_SERVICE: "listening on port 67",
    Privilege.NET_ADMIN: "changing an adapter's addresses",
    Privilege.NET_RAW: "raw Ethernet",
}


def holds(capability: Privilege) -> bool:
    """Whether the capability is effective in this process."""
    for line in Path("/proc/self/status").read_text().splitlines():
        if line.startswith("CapEff:"):
            return bool(int(line.split()[1], 16) >> capability & 1)
    return False


def require(*capabilities: Privilege, instead: str = "") -> None:
    """Raise NotPossibleHere with the line to type unless all of them are held.

    ``instead`` says what can be done without them.
    """
    missing = [capability for capability in capabilities if not holds(capability)]
    if missing:
        what = " and ".join(_FOR[capability] for capability in missing)
        names = ", ".join(f"CAP_{capability.name}" for capability in missing)
        raise NotPossibleHere(
            f"{what} needs privilege ({names}); run: sudo portcall {shlex.join(sys.argv[1:])}"
            + (f"\nwithout it: {instead}" if instead else "")
        )
