"""The rights of this process, and the line that has those which are missing."""

from __future__ import annotations

import sys

from portcall.core.trouble import NotPossibleHere
from portcall.host.privilege import FOR, Privilege

if sys.platform == "win32":
    from portcall.host.windows.rights import holds, how_to_have, with_rights
else:
    from portcall.host.linux.rights import holds, how_to_have, with_rights

__all__ = ["holds", "require", "with_rights"]


def require(*capabilities: Privilege, instead: str = "") -> None:
    """Raise NotPossibleHere with the line to type unless all of them are held.

    ``instead`` says what can be done without them.
    """
    missing = [capability for capability in capabilities if not holds(capability)]
    if missing:
        what = " and ".join(FOR[capability] for capability in missing)
        without = f"\nwithout it: {instead}" if instead else ""
        raise NotPossibleHere(f"{what} needs {how_to_have(missing)}{without}")
