"""Missing rights of this process, for commands that have to say so first."""

from __future__ import annotations

import os

from portcall.host.privilege import Privilege
from portcall.host.rights import holds, with_rights

__all__ = ["is_root", "lacks_raw_ethernet", "with_rights"]


def lacks_raw_ethernet() -> bool:
    """Whether frames of this computer's adapters can neither be heard nor sent here."""
    return not holds(Privilege.NET_RAW)


def is_root() -> bool:
    """Whether this process may change what belongs to root."""
    return os.geteuid() == 0
