"""One command at a time, where two would be in each other's way: locks that name who has them.

A lock ends with its process, however that ends.
"""

from __future__ import annotations

import os
import shlex
import sys
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

from portcall.core.printable import printable
from portcall.core.trouble import NotPossibleHere
from portcall.site.files import make_folder
from portcall.site.matches import state_folder
from portcall.system import as_caller, has_it_to_itself, open_folder_lock

_FOLDER = "running"
_LOOK_AGAIN = 0.05
_LONGEST_NOTE = 400


@contextmanager
def turn(what: str, doing: str, patience: float = 0.0) -> Iterator[None]:
    """Have something to oneself while the block runs, where a lock can be had at all.

    ``what`` names it in a file name; ``doing`` is what whoever has it does, in a sentence. Waits so
    many seconds for it. Raises NotPossibleHere, which names the command that has it.
    """
    path = state_folder() / _FOLDER / f"{what}.lock"
    try:
        make_folder(path.parent)
        with as_caller(path):
            descriptor = os.open(path, os.O_RDWR | os.O_CREAT, 0o644)
    except OSError:
        # A user who may not write there can still work; only two at once cannot be told apart.
        yield
        return
    try:
        if not _taken(descriptor, patience):
            raise NotPossibleHere(
                f"{_who(descriptor)} {doing}", "wait until it has ended, or end it"
            )
        note = f"{os.getpid()} portcall {shlex.join(sys.argv[1:])}"
        # On a full disk the lock still holds; it only does not say whose it is.
        with suppress(OSError):
            os.ftruncate(descriptor, 0)
            os.write(descriptor, note.encode("utf-8", "replace")[:_LONGEST_NOTE])
        yield
    finally:
        os.close(descriptor)


@contextmanager
def alone_in(folder: Path, patience: float) -> Iterator[None]:
    """Be the only command that changes files of a folder, as far as they ask for it like this.

    Raises NotPossibleHere when another does so for longer than that. Nothing is left behind.
    """
    descriptor = open_folder_lock(folder)
    try:
        if not _taken(descriptor, patience):
            raise NotPossibleHere(f"{folder}: another command is changing its files", "try again")
        yield
    finally:
        os.close(descriptor)


def _taken(descriptor: int, patience: float) -> bool:
    end = time.monotonic() + patience
    while not has_it_to_itself(descriptor):
        if time.monotonic() >= end:
            return False
        time.sleep(_LOOK_AGAIN)
    return True


def _who(descriptor: int) -> str:
    """The command that has a lock, as it noted itself."""
    note = os.read(descriptor, _LONGEST_NOTE).decode("utf-8", "replace")
    number, _, words = note.partition(" ")
    return f"{printable(words) or 'another command'} (process {printable(number) or 'unknown'})"
