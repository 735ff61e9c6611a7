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
) -> OpenMatch:
    """Write down a match that is about to be made. Raises NotPossibleHere when it cannot."""
    network = added.network
    path = _folder() / f"{adapter}_{added.ip}_{network.prefixlen}.json"
    entry = {
        "adapter": adapter,
        "mac": str(mac),
        "added": str(added),
        "before": [str(own) for own in before],
        "taken_off": list(taken_off),
        "at": at.astimezone(UTC).isoformat(),
    }
    try:
        make_folder(path.parent)
        write_whole(path, json.dumps(entry, indent=2) + "\n")
    except OSError as error:
        raise NotPossibleHere(
            f"{path.parent}: what match changes must be written down first, and cannot be: "
            f"{error.strerror}; nothing was changed"
        ) from None
    return OpenMatch(adapter, mac, added, tuple(before), tuple(taken_off), at, path)


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
        )
    except (OSError, ValueError, KeyError, TypeError, AttributeError, AddressError):
        return None


def close(entry: OpenMatch) -> None:
    """The match was put back."""
    with contextlib.suppress(FileNotFoundError):
        entry.path.unlink()
    with contextlib.suppress(OSError):
        flush_folder(entry.path.parent)
