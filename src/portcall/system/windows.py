"""Files, locks and processes of Windows.

A folder there belongs to who made it, and its access list lets others in or not; there is no sudo,
so that what is written is always the person's own.
"""

from __future__ import annotations

import contextlib
import ctypes
import getpass
import hashlib
import msvcrt
import os
import platform
import signal
import stat
import sys
import tempfile
import winreg
from collections.abc import Iterator
from ctypes import wintypes
from functools import cache
from pathlib import Path

assert sys.platform == "win32"

SYSTEM = "windows"
"""Which operating system's words are said."""

HAS_NAMESPACES = False
"""Whether private networks can be made, which a practice plant is made of."""

ENDINGS = (signal.SIGTERM, signal.SIGBREAK)
"""The signals by which a process is told to end, or that its console is gone."""

_kernel = ctypes.WinDLL("kernel32", use_last_error=True)
_kernel.GetTickCount64.restype = ctypes.c_uint64
_kernel.OpenProcess.restype = wintypes.HANDLE
_kernel.OpenProcess.argtypes = (wintypes.DWORD, wintypes.BOOL, wintypes.DWORD)
_kernel.CloseHandle.argtypes = (wintypes.HANDLE,)
_kernel.GetExitCodeProcess.argtypes = (wintypes.HANDLE, ctypes.POINTER(wintypes.DWORD))
_kernel.GetProcessTimes.argtypes = (
    wintypes.HANDLE,
    *[ctypes.POINTER(wintypes.FILETIME)] * 4,
)

_QUERY_LIMITED_INFORMATION = 0x1000
_STILL_ACTIVE = 259
_LOCKED_AT = 1 << 30
"""The octet of a file that a lock is on: beyond all that is in it, which others may read."""

_STARTS = (
    r"SYSTEM\CurrentControlSet\Control\Session Manager\Memory Management\PrefetchParameters",
    "BootId",
)


@contextlib.contextmanager
def as_caller(path: Path) -> Iterator[None]:
    """Nothing changes: there is nobody else's right to have."""
    yield


@contextlib.contextmanager
def callers_rights() -> Iterator[None]:
    """Nothing changes: there is nobody else's right to have."""
    yield


def whose_else(path: Path) -> str:
    """Nobody: the person's own folders let no ordinary user write. Raises OSError."""
    os.stat(path)
    return ""


def only_we_could_write(path: Path) -> bool:
    """Whether it is a file in a folder of the person's own. Raises OSError."""
    return stat.S_ISREG(os.lstat(path).st_mode)


def make_private(folder: Path) -> None:
    """Nothing is to be done: the access list is that of the person's own folder."""


def open_ordinary(path: Path) -> int:
    """A descriptor to read whatever is there. Raises OSError."""
    if path.is_dir():
        raise IsADirectoryError(21, "Is a directory", str(path))
    return os.open(path, os.O_RDONLY | os.O_BINARY | os.O_NOINHERIT)


def flush_folder(folder: Path) -> None:
    """The file system's own journal has its entries."""


def open_folder_lock(folder: Path) -> int:
    """A descriptor that ``has_it_to_itself`` takes for a folder: of a file of that folder's name in
    the person's own folder for passing files, since a folder cannot be opened. Raises OSError."""
    whole = os.path.normcase(os.path.realpath(folder))
    name = hashlib.sha256(whole.encode("utf-8", "surrogatepass")).hexdigest()[:24]
    path = Path(tempfile.gettempdir()) / f"portcall-{name}.lock"
    return os.open(path, os.O_RDWR | os.O_CREAT | os.O_BINARY | os.O_NOINHERIT)


def has_it_to_itself(descriptor: int) -> bool:
    """Lock an open file; whether nobody else has it.

    It ends when the descriptor is closed, and with this process, however that ends (LockFile).
    """
    place = os.lseek(descriptor, 0, os.SEEK_CUR)
    try:
        os.lseek(descriptor, _LOCKED_AT, os.SEEK_SET)
        msvcrt.locking(descriptor, msvcrt.LK_NBLCK, 1)
    except OSError:
        return False
    finally:
        os.lseek(descriptor, place, os.SEEK_SET)
    return True


def person() -> str:
    """Who types."""
    return getpass.getuser()


def workstation() -> str:
    """The computer's own name."""
    return platform.node()


def state_home() -> Path:
    """The folder for what programs remember of a person on this computer."""
    local = os.environ.get("LOCALAPPDATA")
    return Path(local) if local else Path.home() / "AppData" / "Local"


def seconds_up() -> float:
    """Seconds since the computer's start; they also count while it sleeps (GetTickCount64)."""
    return int(_kernel.GetTickCount64()) / 1000


@cache
def this_start() -> str | None:
    """A name of the computer's last start that no other start has; None where it tells none."""
    try:
        with winreg.OpenKey(winreg.HKEY_LOCAL_MACHINE, _STARTS[0]) as key:
            return str(winreg.QueryValueEx(key, _STARTS[1])[0])
    except OSError:
        return None


def process_named(number: int) -> str | None:
    """A process as its number and when it started, which no later one has both of.

    None where there is none of that number.
    """
    handle = _kernel.OpenProcess(_QUERY_LIMITED_INFORMATION, False, number)
    if not handle:
        return None
    try:
        code = wintypes.DWORD()
        if not _kernel.GetExitCodeProcess(handle, ctypes.byref(code)):
            return None
        times = [wintypes.FILETIME() for _ in range(4)]
        pointers = map(ctypes.byref, times)
        if code.value != _STILL_ACTIVE or not _kernel.GetProcessTimes(handle, *pointers):
            return None
        began = times[0]
        return f"{number} {began.dwHighDateTime << 32 | began.dwLowDateTime}"
    finally:
        _kernel.CloseHandle(handle)
