"""Writing files so that a crash leaves the old or the new one whole, as the right person."""

from __future__ import annotations

import contextlib
import errno
import os
import stat
import time
from pathlib import Path
from typing import BinaryIO

from portcall.core.trouble import BadInput, NotPossibleHere
from portcall.system import (
    as_caller,
    callers_rights,
    flush_folder,
    make_private,
    open_ordinary,
)


def make_folder(path: Path) -> None:
    """Make a folder and those above it. Raises OSError."""
    with as_caller(path / "file"):
        path.mkdir(parents=True, exist_ok=True)


def make_private_folder(path: Path) -> None:
    """Make a folder of this program's own in which this person alone may write, whatever the umask
    is. Those above it may be anybody's, and stay as they are. Raises OSError.
    """
    make_folder(path)
    with as_caller(path / "file"):
        make_private(path)


def open_to_read(path: Path) -> BinaryIO:
    """Open a file to read it. Raises OSError, and BadInput for what is no ordinary file.

    A pipe or a device might never end, or never begin.
    """
    descriptor = open_ordinary(path)
    kind = os.fstat(descriptor).st_mode
    if stat.S_ISDIR(kind):
        os.close(descriptor)
        raise IsADirectoryError(errno.EISDIR, os.strerror(errno.EISDIR))
    if not stat.S_ISREG(kind):
        os.close(descriptor)
        raise BadInput(
            f"{path}: is a pipe or a device, and no file", "save what it gives in a file"
        )
    return os.fdopen(descriptor, "rb")


def open_named(path: Path) -> BinaryIO:
    """The same for a file that a person named, with the rights of that person."""
    with callers_rights():
        return open_to_read(path)


def read_bounded(path: Path, largest: int, what: str) -> bytes:
    """All of a file that somebody named, which should be a ``what``.

    Raises NotPossibleHere, and BadInput when it has more octets than any of these.
    """
    try:
        with open_named(path) as file:
            data = file.read(largest + 1)
    except OSError as error:
        raise NotPossibleHere(f"{path}: cannot be read: {error.strerror}") from None
    if len(data) > largest:
        raise BadInput(f"{path}: is larger than any {what}, {largest:,} octets")
    return data


def write_whole(path: Path, data: bytes) -> None:
    """Replace a file atomically; it is on the disk when this returns. Raises OSError.

    Where ``path`` is a link, the file it leads to is replaced.
    """
    with as_caller(path):
        _write_whole(Path(os.path.realpath(path)), data)


def _write_whole(path: Path, data: bytes) -> None:
    temporary = path.with_name(f".{path.name}.{os.getpid()}")
    try:
        with open(temporary, "xb") as file:
            file.write(data)
            file.flush()
            os.fsync(file.fileno())
        mode = path.stat().st_mode & 0o777 if path.exists() else 0o644
        os.chmod(temporary, mode)
        _put_in_place(temporary, path)
    except BaseException:
        with contextlib.suppress(OSError):
            os.unlink(temporary)
        raise
    flush_folder(path.parent)


def _put_in_place(temporary: Path, path: Path) -> None:
    """Give a file its name; on Windows no other command may have the old one open, for a moment."""
    for _ in range(_TRIES):
        with contextlib.suppress(PermissionError):
            os.replace(temporary, path)
            return
        time.sleep(_AGAIN)
    os.replace(temporary, path)


_TRIES, _AGAIN = 40, 0.05


def open_to_append(path: Path) -> BinaryIO:
    """Open a record to add lines to, after one that a crash left half written. Raises OSError."""
    make_folder(path.parent)
    with as_caller(path):
        file = open(path, "a+b", buffering=0)  # noqa: SIM115 - the caller closes it
    if ends_in_the_middle(file):
        file.write(b"\n")
    return file


def append(file: BinaryIO, data: bytes) -> None:
    """Add all of this to a record, and have it on the disk. Raises OSError.

    The system may take a part only, as on a full disk: then what was added is taken away again, so
    that no line is there in part or twice.
    """
    before = file.seek(0, os.SEEK_END)
    left = memoryview(data)
    try:
        while left:
            taken = file.write(left)
            if not taken:
                raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC))
            left = left[taken:]
        os.fsync(file.fileno())
    except OSError:
        with contextlib.suppress(OSError):
            # Unless another command has added something behind it.
            if file.seek(0, os.SEEK_END) == before + len(data) - len(left):
                file.truncate(before)
        raise


def ends_in_the_middle(file: BinaryIO) -> bool:
    """Whether the last line of a file was only half written."""
    if file.seek(0, os.SEEK_END) == 0:
        return False
    file.seek(-1, os.SEEK_END)
    return file.read(1) != b"\n"
