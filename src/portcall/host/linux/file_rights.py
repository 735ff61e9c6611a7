"""Capabilities that a program has by its file, whoever runs it: capabilities(7).

They are an attribute of the file, ``security.capability``, in version 2 of linux/capability.h. To
set it takes root (CAP_SETFCAP).
"""

from __future__ import annotations

import os
import struct
import subprocess
from collections.abc import Callable, Collection
from contextlib import suppress
from pathlib import Path

from portcall.host.privilege import Privilege

_ATTRIBUTE = "security.capability"
_VERSION_2, _VERSION_3, _VERSIONS = 0x02000000, 0x03000000, 0xFF000000
_EFFECTIVE = 0x1
_FORM = struct.Struct("<5I")
"""Version and flags; then permitted and inheritable, 32 bits of each, twice."""


def require_file_rights() -> None:
    """Nothing is to be said: there are rights by files here."""


def rights_of(file: Path) -> frozenset[Privilege] | None:
    """The capabilities that a file gives; None when it gives one that is not in ``Privilege``."""
    try:
        told = os.getxattr(file, _ATTRIBUTE)
    except OSError:
        return frozenset()
    if len(told) < _FORM.size:
        return None
    version, low, _, high, _ = _FORM.unpack_from(told)
    if version & _VERSIONS not in (_VERSION_2, _VERSION_3):
        return None
    bits = low | high << 32
    known = frozenset(each for each in Privilege if bits >> each & 1)
    return known if bits == sum(1 << each for each in known) else None


def copy_with_rights(
    program: Path,
    copy: Path,
    group: int,
    rights: Collection[Privilege],
    works: Callable[[Path], bool],
) -> bool:
    """Copy a program; the copy has the rights, and nobody but this group and root may run it.

    It takes its place whole, and only when it ``works``; whether it does. What is in that place
    stays else. Raises OSError.
    """
    new = copy.with_name(f"{copy.name}.{os.getpid()}")
    data = program.read_bytes()
    with suppress(FileNotFoundError):
        new.unlink()  # It was left by a killed process, or somebody else put it there.
    # Others may write into this folder: nothing that is already there is opened.
    descriptor = os.open(new, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW, 0o600)
    try:
        with os.fdopen(descriptor, "wb") as out:
            out.write(data)
            out.flush()
            os.fchown(descriptor, 0, group)
            os.fchmod(descriptor, 0o750)
            bits = sum(1 << each for each in rights)
            value = _FORM.pack(_VERSION_2 | _EFFECTIVE, bits & 0xFFFFFFFF, 0, bits >> 32, 0)
            # Writing to a file, or changing its owner, takes its capabilities away.
            os.setxattr(descriptor, _ATTRIBUTE, value)
            os.fsync(descriptor)
        good = works(new)
        if good:
            os.replace(new, copy)
    finally:
        with suppress(OSError):
            new.unlink()
    return good


def runs(interpreter: Path, module: str, person: tuple[int, int] | None) -> bool:
    """Whether an interpreter starts, and finds a module; as a user and group, where they are told.

    What has rights by its file is started with less around it than what root starts (ld.so(8),
    secure execution): libraries that lie beside it are not found then.
    """
    user, group = person or (None, None)
    command = [str(interpreter), "-c", f"import {module}; print({module}.__name__)"]
    try:
        ended = subprocess.run(
            command, capture_output=True, timeout=60, cwd="/", user=user, group=group
        )
    except (OSError, subprocess.TimeoutExpired):
        return False
    return ended.stdout.decode(errors="replace").strip() == module


def ignores_rights(folder: Path) -> bool:
    """Whether programs in a folder run without the rights of their files: it is mounted nosuid."""
    return bool(os.statvfs(folder).f_flag & os.ST_NOSUID)
