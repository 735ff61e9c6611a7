"""What match has open: one small file for each address it added, written before it is added.

A file that exists is a match that is open; restoring removes the address, then the file. So a
crash at any moment leaves at worst a file whose address was never added, and restoring that is
harmless.
"""

from __future__ import annotations

import contextlib
import json
import os
import pwd
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from ipaddress import IPv4Interface
from pathlib import Path

from portcall.core.address import AddressError, Mac, parse_mac
from portcall.core.trouble import NotPossibleHere
from portcall.site.files import caller, flush_folder, make_folder, write_whole

STATE_VARIABLE = "PORTCALL_STATE"


@dataclass(frozen=True, slots=True)
class OpenMatch:
    """An address that match added to an adapter; ``before`` are those that were there.

    ``taken_off`` is what it removed for the time being, in the operating system's own words.
    """

    adapter: str
    mac: Mac
    added: IPv4Interface
    before: tuple[IPv4Interface, ...]
    taken_off: tuple[str, ...]
    at: datetime
    path: Path
    visitor: str | None = None
    """The process that is to take it off itself; None for a match that a person takes off."""

    @property
    def is_forgotten(self) -> bool:
        """Whether who was to take it off is gone."""
        return self.visitor is not None and _process(int(self.visitor.split()[0])) != self.visitor


def state_folder() -> Path:
    """Where this is kept: one place for a person, with sudo and without."""
    named = os.environ.get(STATE_VARIABLE)
    if named:
        return Path(named)
    person = caller()
    if person is not None:
        with contextlib.suppress(KeyError):
            return Path(pwd.getpwuid(person[0]).pw_dir) / ".local" / "state" / "portcall"
    from platformdirs import user_state_path

    return user_state_path("portcall", appauthor=False)


def _folder() -> Path:
    return state_folder() / "open-matches"


def note(
    adapter: str,
    mac: Mac,
    added: IPv4Interface,
    before: Sequence[IPv4Interface],
    taken_off: Sequence[str],
    at: datetime,
    visiting: bool = False,
) -> OpenMatch:
    """Write down a match that is about to be made. Raises NotPossibleHere when it cannot.

    ``visiting``: this process takes it off again.
    """
    visitor = _process(os.getpid()) if visiting else None
    network = added.network
    path = _folder() / f"{adapter}_{added.ip}_{network.prefixlen}.json"
    entry = {
        "adapter": adapter,
        "mac": str(mac),
        "added": str(added),
        "before": [str(own) for own in before],
        "taken_off": list(taken_off),
        "at": at.astimezone(UTC).isoformat(),
        "visitor": visitor,
    }
    try:
        make_folder(path.parent)
        write_whole(path, json.dumps(entry, indent=2) + "\n")
    except OSError as error:
        raise NotPossibleHere(
            f"{path.parent}: what match changes must be written down first, and cannot be: "
            f"{error.strerror}; nothing was changed"
        ) from None
    return OpenMatch(adapter, mac, added, tuple(before), tuple(taken_off), at, path, visitor)


def open_matches() -> tuple[OpenMatch, ...]:
    """All that is open, oldest first. A file that cannot be read is left alone and not listed."""
    found = [entry for path in _paths() if (entry := _read(path))]
    return tuple(sorted(found, key=lambda entry: entry.at))


def unreadable() -> tuple[Path, ...]:
    """Files that should tell of an open match and do not."""
    return tuple(path for path in _paths() if _read(path) is None)


def _paths() -> list[Path]:
    try:
        return sorted(path for path in _folder().glob("*.json") if not path.name.startswith("."))
    except OSError:
        return []


def _read(path: Path) -> OpenMatch | None:
    try:
        entry = json.loads(path.read_text(encoding="utf-8"))
        return OpenMatch(
            str(entry["adapter"]),
            parse_mac(entry["mac"]),
            IPv4Interface(entry["added"]),
            tuple(IPv4Interface(own) for own in entry["before"]),
            tuple(str(line) for line in entry["taken_off"]),
            datetime.fromisoformat(entry["at"]),
            path,
            _visitor(entry.get("visitor")),
        )
    except (OSError, ValueError, KeyError, TypeError, AttributeError, AddressError):
        return None


def _visitor(value: object) -> str | None:
    """Raises ValueError for what is not a process and its start."""
    if value is None:
        return None
    process, start = str(value).split()
    return f"{int(process)} {int(start)}"


def _process(number: int) -> str | None:
    """A process as its number and when it started, which no later one has both of (proc(5))."""
    try:
        status = Path(f"/proc/{number}/stat").read_text(encoding="ascii", errors="replace")
    except OSError:
        return None
    # The name in parentheses may hold anything; the start time is field 22, the 20th after it.
    return f"{number} {status.rpartition(')')[2].split()[19]}"


def close(entry: OpenMatch) -> None:
    """The match was put back."""
    with contextlib.suppress(FileNotFoundError):
        entry.path.unlink()
    with contextlib.suppress(OSError):
        flush_folder(entry.path.parent)
