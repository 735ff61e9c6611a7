"""The rights of this process: Linux capabilities, not the user's name."""

from __future__ import annotations

import shlex
import shutil
import sys
from enum import IntEnum
from pathlib import Path

from portcall.core.trouble import NotPossibleHere
from portcall.host.program import called, one_file


class Privilege(IntEnum):
    """Bit numbers from linux/capability.h."""

    NET_BIND_SERVICE = 10
    NET_ADMIN = 12
    NET_RAW = 13


FOR = {
    Privilege.NET_BIND_SERVICE: "listening on port 67",
    Privilege.NET_ADMIN: "changing an adapter's addresses",
    Privilege.NET_RAW: "raw Ethernet",
}
"""What each is for, as the subject of a sentence."""


def holds(capability: Privilege) -> bool:
    """Whether the capability is effective in this process."""
    for line in Path("/proc/self/status").read_text().splitlines():
        if line.startswith("CapEff:"):
            return bool(int(line.split()[1], 16) >> capability & 1)
    return False


_WHERE_SUDO_LOOKS = "/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin"
"""The folders in which sudo looks for a program as it is usually set up (secure_path)."""


def with_rights() -> str:
    """The line that runs this command as root: with the program's whole path where sudo, which
    looks in few folders, would not find it."""
    program = called()
    if shutil.which(program.name, path=_WHERE_SUDO_LOOKS):
        words = program.name
    elif program.name == "portcall":
        words = str(program)
    else:
        words = f"{sys.executable} -m portcall"
    return f"sudo {words} {shlex.join(sys.argv[1:])}"


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
