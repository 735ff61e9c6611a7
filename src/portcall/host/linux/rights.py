"""The rights of this process: Linux capabilities, not the user's name (capabilities(7))."""

from __future__ import annotations

import shlex
import shutil
import sys
from collections.abc import Sequence
from enum import IntEnum
from pathlib import Path

from portcall.host.privilege import Privilege
from portcall.host.program import called, one_file


def holds(capability: IntEnum) -> bool:
    """Whether a capability is effective in this process; its number is its bit."""
    for line in Path("/proc/self/status").read_text().splitlines():
        if line.startswith("CapEff:"):
            return bool(int(line.split()[1], 16) >> capability & 1)
    return False


def may_ask() -> bool:
    """Whether this process may ask who has an address: by frames of its own."""
    return holds(Privilege.NET_RAW)


def how_to_have(missing: Sequence[IntEnum]) -> str:
    """What is needed for capabilities that this process has not, and how to have it."""
    names = ", ".join(f"CAP_{capability.name}" for capability in missing)
    for_good = "" if one_file() else " (portcall setup gives it for good)"
    return f"privilege ({names}); run: {with_rights()}{for_good}"


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
