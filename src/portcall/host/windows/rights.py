"""The rights of this process: those of an administrator, or not."""

from __future__ import annotations

import ctypes
import subprocess
import sys
from enum import IntEnum

from portcall.host.program import called

assert sys.platform == "win32"

_BINDS_ANY_PORT = 10
"""The number of the right to listen on port 67, which everybody has there."""


def holds(capability: IntEnum) -> bool:
    """Whether this process may do what a capability is for; an administrator's may do all."""
    if capability == _BINDS_ANY_PORT:
        return True
    return bool(ctypes.WinDLL("shell32").IsUserAnAdmin())


def with_rights() -> str:
    """The line that runs this command, to be typed in a window of an administrator."""
    return f"as administrator: {subprocess.list2cmdline([called().name, *sys.argv[1:]])}"
