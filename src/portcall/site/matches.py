"""Open matches: one small file for each address that was added, written before it is added.

A file that exists is a match that is open; restoring removes the address, then the file. So a
crash at any moment leaves at worst a file whose address was never added, and restoring that is
harmless. As long as it is open, a file is only ever added to: a match that is made again, after it
was killed or its adapter was pulled out, does not know any more what was there at first.
"""

from __future__ import annotations

import contextlib
import json
import os
import time
from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from ipaddress import IPv4Address, IPv4Interface
from pathlib import Path

from portcall.core.address import Mac
from portcall.core.document import (
    OddDocument,
    Part,
    a_mac,
    a_text,
    an_address,
    an_interface,
    parsed,
)
from portcall.core.trouble import NotPossibleHere
from portcall.site.files import make_private_folder, write_whole
from portcall.site.moment import Moment, read_moment
from portcall.system import as_caller, flush_folder, only_we_could_write, process_named, state_home

STATE_VARIABLE = "PORTCALL_STATE"
_OPEN = "open-matches"


@dataclass(frozen=True, slots=True)
class Lease:
    """A server's lease of an address to this computer, in seconds; None for ever."""

    server: IPv4Address
    server_mac: Mac
    seconds: int | None
    since: Moment

    @property
    def seconds_left(self) -> float:
        """How long it still is; infinite for ever."""
        return float("inf") if self.seconds is None else self.seconds - self.since.elapsed


@dataclass(frozen=True, slots=True)
class OpenMatch:
    """An address that match adds to an adapter; ``before`` are those that were there.

    ``taken_off`` is what it removes for the time being, in the operating system's own words.
    """

    adapter: str
    mac: Mac
    added: IPv4Interface
    before: tuple[IPv4Interface, ...]
    taken_off: tuple[str, ...]
    since: Moment
    visitor: str | None = None
    """The process that is to take it off itself; None for a match that a person takes off."""
    lease: Lease | None = None
    """By which a server gave the address; None for one that was chosen."""
    guid: str | None = None
    """By which the operating system knows the adapter, where it has one."""
    folder: Path | None = None
    """Where it is written down, when that is not where it would be now."""

    @property
    def path(self) -> Path:
        """The file that tells of it."""
        prefix = self.added.network.prefixlen
        name = f"{self.adapter}_{self.mac}_{self.added.ip}_{prefix}.json"
        return (self.folder or _folder()) / name

    @property
    def is_forgotten(self) -> bool:
        """Whether who was to take it off is gone."""
        return self.visitor is not None and not is_running(self.visitor)


def state_folder() -> Path:
    """Where this is kept: one place for a person, with sudo and without."""
    named = os.environ.get(STATE_VARIABLE)
    return Path(named) if named else state_home() / "portcall"


def _folder() -> Path:
    return state_folder() / _OPEN


def _folders() -> list[Path]:
    """Where an open match may be written down: here, and where version 1.0.0 would have."""
    earlier = os.environ.get("XDG_STATE_HOME")
    if not earlier or os.environ.get(STATE_VARIABLE):
        return [_folder()]
    return [_folder(), Path(earlier) / "portcall" / _OPEN]


def write_down(match: OpenMatch) -> None:
    """Write down a match that is about to be made. Raises NotPossibleHere when it cannot.

    One that is open already keeps what it tells of, and what is taken off now is added to it.
    """
    earlier = _read(match.path)
    _write(match if earlier is None else _joined(earlier, match))


def keep_open_for(match: OpenMatch, lines: Sequence[str]) -> None:
    """All of a match is put back but these lines: from now on it tells of them alone."""
    _write(replace(match, taken_off=tuple(lines)))


def _write(match: OpenMatch) -> None:
    entry = {
        "adapter": match.adapter,
        "mac": str(match.mac),
        "added": str(match.added),
        "before": [str(own) for own in match.before],
        "taken_off": list(match.taken_off),
        **match.since.entry,
        "visitor": match.visitor,
        "guid": match.guid,
        "lease": None if match.lease is None else _lease_entry(match.lease),
    }
    path = match.path
    try:
        make_private_folder(path.parent)
        _keep_unread(path)
        write_whole(path, f"{json.dumps(entry, indent=2)}\n".encode())
    except OSError as error:
        raise NotPossibleHere(
            f"{path.parent}: what match changes must be written down first, and cannot be: "
            f"{error.strerror}",
            "nothing was changed",
        ) from None


def _keep_unread(path: Path) -> None:
    """A file that cannot be read is not written over: a person may still read it.

    Raises OSError.
    """
    if path.exists() and _read(path) is None:
        with as_caller(path):
            path.replace(path.with_name(f"{path.stem}.{time.time_ns()}.json"))


def _joined(earlier: OpenMatch, later: OpenMatch) -> OpenMatch:
    more = tuple(line for line in later.taken_off if line not in earlier.taken_off)
    return replace(
        earlier,
        taken_off=(*earlier.taken_off, *more),
        # What a person matched stays until a person restores it.
        visitor=None if earlier.visitor is None else later.visitor,
        lease=later.lease or earlier.lease,
    )


def _lease_entry(lease: Lease) -> dict[str, object]:
    return {
        "server": str(lease.server),
        "server_mac": str(lease.server_mac),
        "seconds": lease.seconds,
        **lease.since.entry,
    }


def open_matches() -> tuple[OpenMatch, ...]:
    """All that is open, oldest first. A file that cannot be read is left alone and not listed."""
    found = [entry for path in _paths() if (entry := _read(path))]
    return tuple(sorted(found, key=lambda entry: entry.since.at))


def lasting(interfaces: Sequence[IPv4Interface]) -> tuple[IPv4Interface, ...]:
    """Those of an adapter's addresses that no visit is going to take off."""
    passing = {entry.added for entry in open_matches() if entry.visitor is not None}
    return tuple(own for own in interfaces if own not in passing)


def set_aside() -> tuple[str, ...]:
    """Files that should tell of an open match and do not, with why and what to do."""
    told = []
    for path in _paths():
        if not _is_ours(path):
            told.append(
                f"{path}: somebody else could have written it, so it is not believed; look into "
                "it, and delete it"
            )
        elif _read(path) is None:
            told.append(
                f"{path}: cannot be read, and is left alone; delete it when its adapter is right"
            )
    return tuple(told)


def _is_ours(path: Path) -> bool:
    """Whether an entry may be acted on: with its words, addresses are taken off as root."""
    try:
        return only_we_could_write(path)
    except OSError:
        return False


def _paths() -> list[Path]:
    found: list[Path] = []
    for folder in _folders():
        with contextlib.suppress(OSError):
            paths = (path for path in folder.glob("*.json") if not path.name.startswith("."))
            found += sorted(paths)
    return found


def _read(path: Path) -> OpenMatch | None:
    if not _is_ours(path):
        return None
    try:
        entry = Part(parsed(path.read_bytes()))
        found = OpenMatch(
            entry.take("adapter", a_text),
            entry.take("mac", a_mac),
            entry.take("added", an_interface),
            # Records that can be read; they only serve for messages about a match.
            tuple(entry.each("before", an_interface)),
            entry.take("taken_off", _texts),
            _since(entry, path),
            # Without a process and its start, a person has to restore it.
            entry.get("visitor", a_process),
            _lease(entry.part("lease")),
            entry.get("guid", a_text),
            None if path.parent == _folder() else path.parent,
        )
    except (OSError, OddDocument):
        return None
    return found if found.path.name == path.name else None


def _texts(value: object) -> tuple[str, ...]:
    """A list of lines, each whole: they are put back as they were saved. Raises ValueError."""
    if not isinstance(value, list):
        raise ValueError("is no list")
    return tuple(str(each) for each in value)


def _since(entry: Part, path: Path) -> Moment:
    """When it was written; the file's own time if that is no time. Raises OSError."""
    try:
        return read_moment(entry)
    except OddDocument:
        return Moment(datetime.fromtimestamp(path.stat().st_mtime, UTC))


def _lease(entry: Part) -> Lease | None:
    """The lease to give back to a server; None when it cannot be read."""
    try:
        return Lease(
            entry.take("server", an_address),
            entry.take("server_mac", a_mac),
            None if entry.has_null("seconds") else entry.take("seconds", int),
            read_moment(entry),
        )
    except OddDocument:
        return None


def a_process(value: object) -> str:
    """A process and its start. Raises ValueError."""
    process, _, start = a_text(value).partition(" ")
    if not (process.isdecimal() and start.isdecimal()):
        raise ValueError("is no process")
    return f"{process} {start}"


def this_process() -> str | None:
    """The process that is running this, as ``visitor`` names it."""
    return process_named(os.getpid())


def is_running(process: str) -> bool:
    """Whether a process, as ``visitor`` names it, has not ended."""
    return process_named(int(process.split()[0])) == process


def close(entry: OpenMatch) -> None:
    """The match was put back."""
    with as_caller(entry.path):
        with contextlib.suppress(FileNotFoundError):
            entry.path.unlink()
        with contextlib.suppress(OSError):
            flush_folder(entry.path.parent)
