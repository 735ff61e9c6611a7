"""The record of what was given to whom and when: ``assigned.jsonl``, one line an event.

What happens is on the disk within a second, so that a killed program or a lost battery loses no
more. A temporary address is there before its device hears of it: after a crash nobody else is given
it. Devices do not wait for the disk otherwise.
"""

from __future__ import annotations

import json
from collections import deque
from collections.abc import Iterator
from contextlib import nullcontext, suppress
from datetime import UTC, datetime
from functools import lru_cache
from ipaddress import IPv4Address
from pathlib import Path
from threading import Lock

from portcall.core.address import Mac
from portcall.core.assign.event import Event, EventKind
from portcall.core.document import OddDocument, a_mac, an_address
from portcall.core.plain import plain
from portcall.core.trouble import NotPossibleHere
from portcall.site.logbook.chain_file import add_to, open_chain
from portcall.site.logbook.entries import entries
from portcall.site.logbook.who import who
from portcall.site.matches import state_folder
from portcall.site.moment import Moment, read_moment
from portcall.system import seconds_up, this_start

FILE = "assigned.jsonl"

_RECORDED = (EventKind.ASSIGNED, EventKind.ANSWERING, EventKind.DECLINED)
_MOST_READ = 1024 * 1024
"""Octets from the end of the record that can still be about a temporary address in force."""


@lru_cache(maxsize=4096)
def _quoted(value: object) -> str:
    return json.dumps(None if value is None else str(value), ensure_ascii=False)


class AssignedLog:
    """The record of a site, or without one, of this computer."""

    def __init__(self, folder: Path | None, adapter: str = "") -> None:
        self.path = (folder or state_folder()) / FILE
        try:
            self._file = open_chain(self.path)
        except OSError as error:
            raise NotPossibleHere(
                f"{self.path}: what is given is written down first, and cannot be: {error.strerror}"
            ) from None
        by = json.dumps(plain(who()), ensure_ascii=False)
        self._who = f'"who": {by}, "adapter": {_quoted(adapter)}, "boot": {_quoted(this_start())}'
        self._lines: deque[str] = deque()
        self._writing = Lock()
        self._has_failed = False

    def write(self, event: Event, temporary_seconds: int | None = None) -> None:
        """Write an event down; with ``temporary_seconds`` it is on the disk on return."""
        if event.kind not in _RECORDED:
            return
        now = datetime.now(UTC)
        # Written by hand: a plant that powers up makes thousands of lines, and the json module
        # takes longer than the disk.
        line = (
            f'{{"at": "{now.isoformat(timespec="milliseconds")}", "event": "{event.kind}", '
            f'"mac": "{event.mac}", "protocol": {_quoted(event.protocol)}, '
            f'"address": {_quoted(event.address)}, "name": {_quoted(event.name)}, '
            f'{self._who}, "uptime": {seconds_up():.1f}'
        )
        if temporary_seconds is not None:
            line += f', "lent": {json.dumps(Moment.now().entry)}, "seconds": {temporary_seconds}'
        self._lines.append(f"{line}}}")
        if temporary_seconds is not None:
            self.flush()

    def flush(self) -> None:
        """Have what happened on the disk; to be called twice a second, from any thread.

        Raises OSError; what could not be written is tried again by the next call.
        """
        with self._writing:
            if not self._lines:
                return
            # Taken one by one, because another thread may add more meanwhile.
            lines = [self._lines.popleft() for _ in range(len(self._lines))]
            try:
                add_to(self._file, self.path, lines)
            except OSError:
                # Entries that are not yet on the disk are still to be written.
                self._lines.extendleft(reversed(lines))
                self._has_failed = True
                raise

    def close(self) -> None:
        """Flush, and give the file back. Raises OSError, unless that was told before."""
        try:
            with suppress(OSError) if self._has_failed else nullcontext():
                self.flush()
        finally:
            self._file.close()

    def still_lent(self) -> tuple[tuple[Mac, IPv4Address, float], ...]:
        """Temporary addresses in force: MAC, address, and the seconds that are left."""
        lent: dict[IPv4Address, tuple[Mac, float]] = {}
        for mac, address, seconds, since in self._temporary():
            lent[address] = (mac, seconds - since.elapsed)
        return tuple((mac, a, left) for a, (mac, left) in lent.items() if left > 0)

    def _temporary(self) -> Iterator[tuple[Mac, IPv4Address, int, Moment]]:
        for entry in entries(self.path, _MOST_READ, having=b'"lent"'):
            with suppress(OddDocument):
                mac, address = entry.take("mac", a_mac), entry.take("address", an_address)
                yield mac, address, entry.take("seconds", int), read_moment(entry.part("lent"))
