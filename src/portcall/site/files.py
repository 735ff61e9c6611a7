"""Writing files so that a crash leaves the old or the new one whole, owned by the right person."""

from __future__ import annotations

import contextlib
import os
from pathlib import Path
from typing import BinaryIO


def caller() -> tuple[int, int] | None:
    """The user and group ids of the person who called sudo, or None without sudo."""
    try:
        return int(os.environ["SUDO_UID"]), int(os.environ["SUDO_GID"])
    except (KeyError, ValueError):
        return None


def give_to_caller(path: Path) -> None:
    """Files made under sudo belong to the person who called sudo."""
    person = caller()
    if person and os.geteuid() == 0:
        os.chown(path, *person, follow_symlinks=False)


def make_folder(path: Path) -> None:
    """Make a folder and those above it, owned by the caller."""
    if not path.exists():
        make_folder(path.parent)
        path.mkdir(exist_ok=True)
        give_to_caller(path)


def write_whole(path: Path, data: bytes) -> None:
    """Replace a file atomically; it is on the disk when this returns. Raises OSError."""
    temporary = path.with_name(f".{path.name}.{os.getpid()}")
    try:
        with open(temporary, "xb") as file:
            file.write(data)
            file.flush()
            os.fsync(file.fileno())
        mode = path.stat().st_mode & 0o777 if path.exists() else 0o644
        os.chmod(temporary, mode)
        give_to_caller(temporary)
        os.replace(temporary, path)
    except BaseException:
        with contextlib.suppress(OSError):
            os.unlink(temporary)
        raise
    flush_folder(path.parent)


def ends_in_the_middle(file: BinaryIO) -> bool:
    """Whether the last line of a file was only half written."""
    if file.seek(0, os.SEEK_END) == 0:
        return False
    file.seek(-1, os.SEEK_END)
    return file.read(1) != b"\n"


def flush_folder(folder: Path) -> None:
    """Have the folder's entries on the disk, too."""
    descriptor = os.open(folder, os.O_RDONLY | os.O_DIRECTORY)
    try:
        os.fsync(descriptor)
    finally:
        os.close(descriptor)
