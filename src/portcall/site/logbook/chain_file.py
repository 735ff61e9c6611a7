"""Adding lines to a file whose lines are a chain (``core.record.chain``)."""

from __future__ import annotations

import os
from collections.abc import Callable, Sequence
from itertools import islice
from pathlib import Path
from typing import BinaryIO

from portcall.core.record.chain import NOTHING, digest_of, link_of, linked
from portcall.core.trouble import NotPossibleHere
from portcall.site.files import append, ends_in_the_middle, make_folder
from portcall.site.logbook.folder import ENTRIES, FOLDER
from portcall.site.turns import alone_in
from portcall.system import as_caller

_PATIENCE = 10.0
_BLOCK = 64 * 1024


def open_chain(path: Path) -> BinaryIO:
    """Open a chain to add lines to; it is made where there is none. Raises OSError."""
    make_folder(path.parent)
    make_folder(_lock_of(path))
    with as_caller(path):
        return open(path, "a+b", buffering=0)


def add_lines(path: Path, texts: Sequence[str], first: Callable[[], str] | None = None) -> None:
    """Add objects of JSON to a chain; they are on the disk on return.

    ``first`` gives the object that such a file begins with. Raises OSError.
    """
    with open_chain(path) as file:
        add_to(file, path, texts, first)


def add_to(
    file: BinaryIO, path: Path, texts: Sequence[str], first: Callable[[], str] | None = None
) -> None:
    """The same with a file that is open. Raises OSError."""
    try:
        with alone_in(_lock_of(path), _PATIENCE):
            if ends_in_the_middle(file):
                # A crash cut it; nobody was told that it is written.
                append(file, b"\n")
            number, head = _end_of(file)
            if not number and first is not None:
                texts = [first(), *texts]
            lines = []
            for text in texts:
                number += 1
                line = linked(text, number, head).encode()
                head = digest_of(line)
                lines.append(line + b"\n")
            append(file, b"".join(lines))
    except NotPossibleHere as trouble:
        raise OSError(0, str(trouble)) from None


def add_raw(path: Path, lines: Sequence[bytes], known: int) -> bool:
    """Add lines as another workstation wrote them, each without its line end. Raises OSError.

    Nothing is added, and False given, where the file has other than the ``known`` number of lines.
    """
    with open_chain(path) as file:
        try:
            with alone_in(_lock_of(path), _PATIENCE):
                if ends_in_the_middle(file) or _counted(file) != known:
                    return False
                append(file, b"".join(line + b"\n" for line in lines))
                return True
        except NotPossibleHere as trouble:
            raise OSError(0, str(trouble)) from None


def line_at(path: Path, number: int) -> bytes:
    """A line of a file by its number, without its line end; b"" where there is none."""
    with open(path, "rb") as file:
        return next(islice(file, number - 1, number), b"").rstrip(b"\n")


def _lock_of(path: Path) -> Path:
    """The folder by which commands that write to one logbook wait for each other."""
    return path.parent.parent if path.parent.name == ENTRIES else path.parent / FOLDER


def _end_of(file: BinaryIO) -> tuple[int, str]:
    """The number and the digest of the last line of a file that ends with a line's end."""
    size = file.seek(0, os.SEEK_END)
    if not size:
        return 0, NOTHING
    last = _last_line(file, size)
    link = link_of(last)
    # A line that names no number was written by an earlier version, or was cut by a crash.
    return (link[0] if link is not None else _counted(file)), digest_of(last)


def _last_line(file: BinaryIO, size: int) -> bytes:
    length = _BLOCK
    while True:
        start = max(size - 1 - length, 0)
        file.seek(start)
        data = file.read(size - 1 - start)
        begins = data.rfind(b"\n")
        if begins >= 0 or not start:
            return data[begins + 1 :]
        length *= 8


def _counted(file: BinaryIO) -> int:
    file.seek(0)
    count = 0
    while block := file.read(1 << 20):
        count += block.count(b"\n")
    return count
