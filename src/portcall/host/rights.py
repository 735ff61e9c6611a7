"""The rights of this process, and the line that has those which are missing."""

from __future__ import annotations

import sys

from portcall.core.trouble import NotPossibleHere
from portcall.host.privilege import FOR, Privilege

if sys.platform == "win32":
    from portcall.host.windows.rights import holds, how_to_have, may_ask, with_rights
else:
    from portcall.host.linux.rights import holds, how_to_have, may_ask, with_rights

__all__ = ["holds", "require", "require_asking", "with_rights"]


def require_asking(*capabilities: Privilege, instead: str = "") -> None:
    """Raise NotPossibleHere unless this process may ask who has an address, and has the others."""
    raw = () if may_ask() else (Privilege.NET_RAW,)
    require(*capabilities, *raw, instead=instead)


def require(*capabilities: Privilege, instead: str = "") -> None:
    """Raise NotPossibleHere with the line to type unless all of them are held.

    ``instead`` says what can be done without them.
    """
    missing = [capability for capability in capabilities if not holds(capability)]
    if missing:
        what = " and ".join(FOR[capability] for capability in missing)
        without = f"\nwithout it: {instead}" if instead else ""
        raise NotPossibleHere(f"{what} needs {how_to_have(missing)}{without}")
