"""Echoes on disk: a CSV file that is only ever added to, one line an echo, and read again.

Columns: ``at`` (RFC 3339, UTC, when it left), ``address``, ``door`` (empty for an echo), ``name``,
``ms`` (empty when nothing came back), ``ttl``, ``octets`` and ``result``: ``answered``, or why not.
"""

from __future__ import annotations

import io
from collections.abc import Iterator, Mapping
from contextlib import suppress
from datetime import datetime
from ipaddress import IPv4Address
from itertools import islice
from pathlib import Path

from portcall.core.csv_text import BrokenLine, csv_line, lines_of
from portcall.core.printable import for_spreadsheets, printable
from portcall.core.reach.echo_facts import Fact, Replied, Target, Unanswered, address_of
from portcall.core.reach.ping import LONGEST
from portcall.core.talk.conversation import Endpoint
from portcall.core.trouble import BadInput, NotPossibleHere
from portcall.site.files import append, open_named, open_to_append
from portcall.system import callers_rights

COLUMNS = ("at", "address", "door", "name", "ms", "ttl", "octets", "result")
ANSWERED = "answered"
_MOST_READ = 2_000_000
_LONGEST_LINE = 1000
_LATEST = 4e9
"""Seconds since 1970, and milliseconds, beyond which somebody has written nonsense."""

_LONGEST_WAIT = 1e7


class EchoLog:
    """A file that echoes are added to. Raises NotPossibleHere when it cannot be."""

    def __init__(self, path: Path, names: Mapping[IPv4Address, str]) -> None:
        self.path = path
        self._names = names
        self._lines: list[str] = []
        try:
            with callers_rights():
                is_new = not path.exists() or not path.stat().st_size
                if not is_new:
                    with open_named(path) as file:
                        _check_head(path, file.readline(_LONGEST_LINE))
                self._file = open_to_append(path)
        except OSError as error:
            raise NotPossibleHere(f"{path}: cannot be written: {error.strerror}") from None
        if is_new:
            self._lines.append(csv_line(COLUMNS))
            self.flush()

    def note(self, fact: Fact, at: datetime) -> None:
        """Note one more echo; it is on the disk after the next ``flush``."""
        address = address_of(fact.target)
        door = fact.target.port if isinstance(fact.target, Endpoint) else ""
        if isinstance(fact, Replied):
            came = (f"{fact.seconds * 1000:.3f}", fact.ttl, fact.octets or "", ANSWERED)
        else:
            came = ("", None, fact.octets or "", fact.reason)
        left = at.isoformat(timespec="microseconds").replace("+00:00", "Z")
        name = for_spreadsheets(self._names.get(address, ""))
        self._lines.append(csv_line((left, address, door, name, *came)))

    def flush(self) -> None:
        """Have what was noted on the disk. Raises NotPossibleHere."""
        self.write(self.noted())

    def noted(self) -> bytes:
        """The lines noted since the last call, to be written."""
        lines, self._lines = self._lines, []
        return "".join(lines).encode()

    def write(self, data: bytes) -> None:
        """Have this on the disk; may be called from another thread. Raises NotPossibleHere."""
        try:
            append(self._file, data)
        except OSError as error:
            raise NotPossibleHere(f"{self.path}: cannot be written: {error.strerror}") from None

    def close(self) -> None:
        """Close the file."""
        self._file.close()


def _check_head(path: Path, line: bytes) -> None:
    if line.strip().decode("utf-8", "replace").split(",") != list(COLUMNS):
        raise BadInput(
            f"{path}: is no log of echoes: its first line is not {','.join(COLUMNS)}",
            "name another file",
        )


def read_echoes(path: Path) -> tuple[dict[IPv4Address, str], list[Fact]]:
    """The names and the echoes of a log; a line that a crash cut is left out.

    Raises BadInput for a file that is no such log, NotPossibleHere when it cannot be read.
    """
    names: dict[IPv4Address, str] = {}
    facts: list[Fact] = []
    try:
        with io.TextIOWrapper(open_named(path), "utf-8", "replace", newline="") as file:
            _check_head(path, file.readline(_LONGEST_LINE).encode())
            for row in _rows(file):
                fact = _fact(row)
                if fact is not None:
                    facts.append(fact)
                    if row["name"]:
                        names[address_of(fact.target)] = printable(row["name"], 60)
    except OSError as error:
        raise NotPossibleHere(f"{path}: cannot be read: {error.strerror}") from None
    return names, facts


def _rows(file: io.TextIOBase) -> Iterator[dict[str, str]]:
    for line in islice(iter(lambda: file.readline(_LONGEST_LINE), ""), _MOST_READ):
        # Line by line: a quote that is never closed would make one cell of all that follows.
        with suppress(BrokenLine):
            for _, values in lines_of((line,), 0, ","):
                if len(values) == len(COLUMNS):
                    yield dict(zip(COLUMNS, values, strict=True))


def _fact(row: dict[str, str]) -> Fact | None:
    try:
        address = IPv4Address(row["address"])
        target: Target = Endpoint(address, int(row["door"])) if row["door"] else address
        at = datetime.fromisoformat(row["at"]).timestamp()
        octets, ms = int(row["octets"] or 0), float(row["ms"] or 0)
        plausible = 0 < at < _LATEST and 0 <= octets <= LONGEST and 0 <= ms < _LONGEST_WAIT
        if not plausible or (row["result"] == ANSWERED) != bool(row["ms"]):
            return None
        if row["result"] != ANSWERED:
            return Unanswered(target, 0, printable(row["result"], 80), at=at, octets=octets)
        ttl = int(row["ttl"]) if row["ttl"] else None
        return Replied(target, 0, ms / 1000, ttl, at, octets)
    except (ValueError, OverflowError):
        return None
