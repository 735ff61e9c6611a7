"""Writing files so that a crash leaves the old or the new one whole, as the right person.

Under sudo, what lies in folders that somebody else could have changed is written as the person who
called sudo would write it: with that person's rights, so that no link in them leads to a file which
that person could not have written. Only where root alone could have made the path, root writes.
"""

from __future__ import annotations

import contextlib
import errno
import os
import pwd
import stat
from collections.abc import Iterator
from pathlib import Path
from typing import BinaryIO

from portcall.core.trouble import BadInput, NotPossibleHere

_OTHERS_MAY_WRITE = stat.S_IWGRP | stat.S_IWOTH
_PRIVATE = 0o700
_ROOT = 0


def caller() -> tuple[int, int] | None:
    """The user and group ids of the person who called sudo, or None without sudo."""
    try:
        return int(os.environ["SUDO_UID"]), int(os.environ["SUDO_GID"])
    except (KeyError, ValueError):
        return None


@contextlib.contextmanager
def as_caller(path: Path) -> Iterator[None]:
    """Have the rights of the person who called sudo, where ``path`` is not root's alone.

    Raises OSError. Without sudo, or when root called it, nothing changes. The rights are those of
    the whole process: nothing that needs root goes on meanwhile in another thread.
    """
    if _ROOT in _roots_alone(path):
        yield
        return
    with callers_rights():
        yield


@contextlib.contextmanager
def callers_rights() -> Iterator[None]:
    """Have the rights of the person who called sudo, wherever the files are.

    A file that this person named is opened like this: sudo is there for the wire, not for files
    that the person could not read or make otherwise. Raises OSError.
    """
    person = caller()
    if person is None or person[0] == _ROOT or os.geteuid() != _ROOT:
        yield
        return
    user, group = person
    groups, own_group = os.getgroups(), os.getegid()
    os.setgroups(_groups_of(user, group))
    try:
        os.setegid(group)
        os.seteuid(user)
        yield
    finally:
        os.seteuid(_ROOT)
        os.setegid(own_group)
        os.setgroups(groups)


def _roots_alone(path: Path) -> tuple[int, ...]:
    """Root, where nobody else could have put a link or a file on the way to ``path``."""
    for way in {Path(os.path.abspath(path)), Path(os.path.realpath(path))}:
        for folder in way.parents:
            try:
                found = os.lstat(folder)
            except FileNotFoundError:
                continue
            # In a sticky folder others cannot replace what is root's, but could have made what is
            # not there yet.
            sticky = found.st_mode & stat.S_ISVTX and folder != way.parent
            if found.st_uid != _ROOT or (found.st_mode & _OTHERS_MAY_WRITE and not sticky):
                return ()
    return (_ROOT,)


def _groups_of(user: int, group: int) -> list[int]:
    try:
        return os.getgrouplist(pwd.getpwuid(user).pw_name, group)
    except KeyError:
        return [group]


def whose_else(path: Path) -> str:
    """Other owners of a folder or file than root, this user and the caller of sudo.

    In words; "" for nobody. Raises OSError.

    A group of colleagues may: whoever is in it was let in by an administrator.
    """
    person = caller()
    people = {_ROOT, os.geteuid(), *(person[:1] if person else ())}
    found = os.stat(path)
    if found.st_uid not in people:
        with contextlib.suppress(KeyError):
            return f"belongs to {pwd.getpwuid(found.st_uid).pw_name}"
        return f"belongs to user {found.st_uid}"
    return "may be changed by everybody" if found.st_mode & stat.S_IWOTH else ""


def only_we_could_write(path: Path) -> bool:
    """Whether nobody but root, this user and the caller of sudo could have written a file.

    Raises OSError.
    """
    person = caller()
    people = {_ROOT, os.geteuid(), *(person[:1] if person else ())}
    for found in (os.lstat(path), os.stat(path.parent)):
        by_group = found.st_mode & stat.S_IWGRP and not _is_private(found.st_gid, people)
        if found.st_uid not in people or found.st_mode & stat.S_IWOTH or by_group:
            return False
    return stat.S_ISREG(os.lstat(path).st_mode)


def _is_private(group: int, people: set[int]) -> bool:
    """Whether a group is root's, or the one that a user of that number alone is in by custom."""
    return group == _ROOT or group in people


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
        if path.stat().st_mode & _OTHERS_MAY_WRITE:
            os.chmod(path, _PRIVATE)


def open_to_read(path: Path) -> BinaryIO:
    """Open a file to read it. Raises OSError, and BadInput for what is no ordinary file.

    A pipe or a device might never end, or never begin.
    """
    descriptor = os.open(path, os.O_RDONLY | os.O_NONBLOCK | os.O_CLOEXEC)
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
        os.replace(temporary, path)
    except BaseException:
        with contextlib.suppress(OSError):
            os.unlink(temporary)
        raise
    flush_folder(path.parent)


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


def flush_folder(folder: Path) -> None:
    """Have the folder's entries on the disk, too."""
    descriptor = os.open(folder, os.O_RDONLY | os.O_DIRECTORY)
    try:
        os.fsync(descriptor)
    finally:
        os.close(descriptor)
