"""The rights of this process: those of an administrator, or not."""

from __future__ import annotations

import ctypes
import subprocess
import sys
from collections.abc import Sequence
from enum import IntEnum

from portcall.host.program import called
from portcall.host.windows.capture import has_driver

assert sys.platform == "win32"

_BINDS_ANY_PORT = 10
"""The number of the right to listen on port 67, which everybody has there."""


_RAW_ETHERNET = 13
"""The number of the right to hear and send frames, which a capture driver gives."""

_DRIVER = "a capture driver, which is not installed: portcall help windows"


def holds(capability: IntEnum) -> bool:
    """Whether this process may do what a capability is for."""
    if capability == _BINDS_ANY_PORT:
        return True
    if capability == _RAW_ETHERNET:
        return has_driver()
    return bool(ctypes.WinDLL("shell32").IsUserAnAdmin())


def may_ask() -> bool:
    """Whether this process may ask who has an address: Windows does it for everybody."""
    return True


def how_to_have(missing: Sequence[IntEnum]) -> str:
    """What is needed for rights that this process has not, and how to have it."""
    return _DRIVER if _RAW_ETHERNET in missing else f"an administrator; {with_rights()}"


def with_rights() -> str:
    """The line that runs this command with all rights, or what is to be installed for that."""
    if not has_driver():
        return _DRIVER
    line = subprocess.list2cmdline([called().name, *sys.argv[1:]])
    return f"type this in a window that was opened as administrator: {line}"
