"""A visit that is under way, written down for the commands that are typed in it.

The visit may follow its device to another address, and its adapter may come back under another
name, so that a shell's variables would soon say what is no longer so: they name the visit, and its
note says what is.
"""

from __future__ import annotations

import contextlib
import json
import os
import shutil
import time
from dataclasses import dataclass
from ipaddress import IPv4Address
from pathlib import Path

from portcall.core.address import Mac
from portcall.core.document import OddDocument, Part, a_mac, a_text, a_truth, an_address, parsed
from portcall.core.trouble import NotPossibleHere
from portcall.site.files import make_private_folder, write_whole
from portcall.site.matches import a_process, is_running, state_folder
from portcall.system import as_caller, only_we_could_write

VISIT_VARIABLE = "PORTCALL_VISIT"
"""In a visit's shell, the number of the process that is the visit."""

_FOLDER = "visits"


@dataclass(frozen=True, slots=True)
class Visited:
    """What a visit is with now: a device, as it is called here, or a subnet.

    ``named_adapter`` is what PORTCALL_ADAPTER was set to when it began; ``address`` and ``mac``
    are None where they are not known.
    """

    visitor: str
    adapter: str
    named_adapter: str
    name: str
    mac: Mac | None
    address: IPv4Address | None
    is_device: bool
    is_there: bool = True
    """Whether this computer is in its subnet: not while it is on the way."""


def write_visit(visited: Visited) -> None:
    """Write down what a visit is with now. Raises NotPossibleHere."""
    path = _path(visited.visitor.split()[0])
    entry = {
        "visitor": visited.visitor,
        "adapter": visited.adapter,
        "named_adapter": visited.named_adapter,
        "name": visited.name,
        "mac": str(visited.mac) if visited.mac else None,
        "address": str(visited.address) if visited.address else None,
        "is_device": visited.is_device,
        "is_there": visited.is_there,
    }
    try:
        make_private_folder(path.parent)
        write_whole(path, f"{json.dumps(entry, indent=2)}\n".encode())
    except OSError as error:
        raise NotPossibleHere(
            f"{path}: a visit must be written down, and cannot be: {error.strerror}"
        ) from None


def forget_visits() -> None:
    """Remove the notes of visits that are over, this process's own among them."""
    for path in _folder().glob("*.json"):
        visited = _read(path)
        mine = path.stem == str(os.getpid())
        if mine or visited is None or not is_running(visited.visitor):
            with as_caller(path), contextlib.suppress(OSError):
                path.unlink()
                shutil.rmtree(path.with_suffix(""), ignore_errors=True)


def shell_folder() -> Path:
    """Where a shell's start-up files are while this visit lasts; it goes with the visit's note."""
    return _folder() / str(os.getpid())


def this_visit() -> Visited | None:
    """The visit in whose shell this runs; None outside of one, and after it."""
    number = os.environ.get(VISIT_VARIABLE, "")
    if not number.isdecimal():
        return None
    visited = _read(_path(number))
    if visited is None or not is_running(visited.visitor):
        return None
    return visited


def arrived(address: IPv4Address | None = None) -> Visited | None:
    """This visit, when it is in its device's subnet: waited for, where it is on the way.

    ``address`` is where the device went, when that is known and the visit may not know it yet.
    """
    end = time.monotonic() + _ON_THE_WAY
    while True:
        around = this_visit()
        there = around is None or (around.is_there and address in (None, around.address))
        if there or time.monotonic() > end:
            return around
        time.sleep(_LOOK_AGAIN)


_ON_THE_WAY = 12.0
"""Seconds: to notice where a device went, and to ask for a free address there."""
_LOOK_AGAIN = 0.1


def is_after_a_visit() -> bool:
    """Whether this runs in the shell of a visit that is over: it was killed."""
    return bool(os.environ.get(VISIT_VARIABLE)) and this_visit() is None


def _folder() -> Path:
    return state_folder() / _FOLDER


def _path(number: str) -> Path:
    return _folder() / f"{number}.json"


def _read(path: Path) -> Visited | None:
    try:
        if not only_we_could_write(path):
            return None
        entry = Part(parsed(path.read_bytes()))
        return Visited(
            entry.take("visitor", a_process),
            entry.take("adapter", a_text),
            entry.take("named_adapter", a_text),
            entry.take("name", a_text),
            entry.get("mac", a_mac),
            entry.get("address", an_address),
            entry.take("is_device", a_truth),
            entry.take("is_there", a_truth),
        )
    except (OSError, OddDocument):
        return None
