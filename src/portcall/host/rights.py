"""The rights of this process, and the line that has those which are missing."""

from __future__ import annotations

import sys

from portcall.core.trouble import NotPossibleHere
from portcall.host.privilege import FOR, Privilege
from portcall.host.program import one_file

if sys.platform == "win32":
    from portcall.host.windows.rights import holds, with_rights
else:
    from portcall.host.linux.rights import holds, with_rights

__all__ = ["holds", "require", "with_rights"]


def require(*capabilities: Privilege, instead: str = "") -> None:
    """Raise NotPossibleHere with the line to type unless all of them are held.

    ``instead`` says what can be done without them.
    """
    missing = [capability for capability in capabilities if not holds(capability)]
    if missing:
        what = " and ".join(FOR[capability] for capability in missing)
        names = ", ".join(f"CAP_{capability.name}" for capability in missing)
        for_good = "" if one_file() else " (portcall setup gives it for good)"
        raise NotPossibleHere(
            f"{what} needs privilege ({names}); run: {with_rights()}{for_good}"
            + (f"\nwithout it: {instead}" if instead else "")
        )
