"""Files, locks and processes of Linux.

Under sudo, what lies in folders that somebody else could have changed is written as the person who
called sudo would write it: with that person's rights, so that no link in them leads to a file which
that person could not have written. Only where root alone could have made the path, root writes.
"""

from __future__ import annotations

import contextlib
import fcntl
import os
import pwd
import signal
import stat
import sys
import time
from collections.abc import Iterator
from functools import cache
from pathlib import Path

from portcall.system.sudo import caller

assert sys.platform != "win32"

SYSTEM = "linux"
"""Which operating system's words are said."""

HAS_NAMESPACES = True
"""Whether private networks can be made, which a practice plant is made of."""

ENDINGS = (signal.SIGTERM, signal.SIGHUP)
"""The signals by which a process is told to end, or that its terminal is gone."""

_OTHERS_MAY_WRITE = stat.S_IWGRP | stat.S_IWOTH
_PRIVATE = 0o700
_ROOT = 0
_BOOT_ID = Path("/proc/sys/kernel/random/boot_id")


@contextlib.contextmanager
def as_caller(path: Path) -> Iterator[None]:
    """Have the rights of the person who called sudo, where ``path`` is not root's alone.

    Raises OSError. Without sudo, or when root called it, nothing changes. The rights are those of
    the whole process: nothing that needs root goes on meanwhile in another thread.
    """
    if _is_roots_alone(path):
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


def _is_roots_alone(path: Path) -> bool:
    """Whether nobody but root could have put a link or a file on the way to ``path``."""
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
                return False
    return True


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
    found = os.stat(path)
    if found.st_uid not in _ourselves():
        with contextlib.suppress(KeyError):
            return f"belongs to {pwd.getpwuid(found.st_uid).pw_name}"
        return f"belongs to user {found.st_uid}"
    return "may be changed by everybody" if found.st_mode & stat.S_IWOTH else ""


def only_we_could_write(path: Path) -> bool:
    """Whether nobody but root, this user and the caller of sudo could have written a file.

    Raises OSError.
    """
    people = _ourselves()
    for found in (os.lstat(path), os.stat(path.parent)):
        by_group = found.st_mode & stat.S_IWGRP and not _is_private(found.st_gid, people)
        if found.st_uid not in people or found.st_mode & stat.S_IWOTH or by_group:
            return False
    return stat.S_ISREG(os.lstat(path).st_mode)


def _ourselves() -> set[int]:
    person = caller()
    return {_ROOT, os.geteuid(), *(person[:1] if person else ())}


def _is_private(group: int, people: set[int]) -> bool:
    """Whether a group is root's, or the one that a user of that number alone is in by custom."""
    return group == _ROOT or group in people


def make_private(folder: Path) -> None:
    """Let this person alone write in a folder, where others might. Raises OSError."""
    if folder.stat().st_mode & _OTHERS_MAY_WRITE:
        os.chmod(folder, _PRIVATE)


def open_ordinary(path: Path) -> int:
    """A descriptor to read whatever is there; opening a pipe does not wait for who writes into it.

    Raises OSError.
    """
    return os.open(path, os.O_RDONLY | os.O_NONBLOCK | os.O_CLOEXEC)


def flush_folder(folder: Path) -> None:
    """Have the folder's entries on the disk, too. Raises OSError."""
    descriptor = os.open(folder, os.O_RDONLY | os.O_DIRECTORY)
    try:
        os.fsync(descriptor)
    finally:
        os.close(descriptor)


def open_folder_lock(folder: Path) -> int:
    """A descriptor that ``has_it_to_itself`` takes for a folder. Raises OSError."""
    return os.open(folder, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)


def has_it_to_itself(descriptor: int) -> bool:
    """Lock an open file, or a folder; whether nobody else has it.

    It ends when the descriptor is closed, and with this process, however that ends (flock(2)).
    """
    try:
        fcntl.flock(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except BlockingIOError:
        return False
    return True


def person() -> str:
    """Who types; under sudo, who called that."""
    user, _ = caller() or (os.getuid(), 0)
    try:
        return pwd.getpwuid(user).pw_name
    except KeyError:
        return str(user)


def workstation() -> str:
    """The computer's own name."""
    return os.uname().nodename


def state_home() -> Path:
    """The folder for what programs remember of a person: one for a person, with sudo and without.

    XDG_STATE_HOME is not heeded, since sudo takes it away: what one command wrote down, the next
    would not find.
    """
    person, home = caller(), Path.home()
    if person is not None:
        with contextlib.suppress(KeyError):
            home = Path(pwd.getpwuid(person[0]).pw_dir)
    return home / ".local" / "state"


def seconds_up() -> float:
    """Seconds since the computer's start; they also count while it sleeps (clock_gettime(2))."""
    return time.clock_gettime(time.CLOCK_BOOTTIME)


@cache
def this_start() -> str | None:
    """A name of the computer's last start that no other start has; None where it tells none."""
    try:
        return _BOOT_ID.read_text(encoding="ascii").strip()
    except (OSError, ValueError):
        return None


def process_named(number: int) -> str | None:
    """A process as its number and when it started, which no later one has both of (proc(5)).

    None where there is none of that number.
    """
    try:
        status = Path(f"/proc/{number}/stat").read_text(encoding="ascii", errors="replace")
    except OSError:
        return None
    # The name in parentheses may hold anything; the start time is field 22, the 20th after it.
    return f"{number} {status.rpartition(')')[2].split()[19]}"
