"""Putting back what one match changed."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from ipaddress import IPv4Interface

from portcall.core.adapters.adapter import Adapter
from portcall.host.adapters import read_adapters
from portcall.host.addresses import put_back, remove_alone
from portcall.host.privilege import Privilege, require
from portcall.site.matches import OpenMatch, close, open_matches


@dataclass(frozen=True, slots=True)
class Restored:
    """What came of it. ``adapter`` is its name now, None when it is not here.

    ``now`` are its addresses afterwards; ``ended`` are those whose lease has ended meanwhile.
    """

    entry: OpenMatch
    adapter: str | None
    was_in_force: bool = False
    now: tuple[IPv4Interface, ...] = ()
    ended: tuple[IPv4Interface, ...] = ()

    @property
    def done(self) -> bool:
        """Whether this match is closed."""
        return self.adapter is not None

    def __str__(self) -> str:
        entry, before = self.entry, listed(self.entry.before) or "no address"
        if self.adapter is None:
            return (
                f"{entry.adapter} ({entry.mac}) is not here; what it was given went with it. "
                "Plug it in and run restore again, or leave it"
            )
        gone = "removed" if self.was_in_force else "was gone already"
        sentence = f"{self.adapter}: {entry.added} {gone}"
        if self.now == entry.before:
            return f"{sentence}, as it was before: {before}"
        if self.ended:
            return (
                f"{sentence}; the lease of {listed(self.ended)} has ended meanwhile: "
                "ask for a new one"
            )
        now = listed(self.now) or "no address"
        return f"{sentence}; others changed it meanwhile: before {before}, now {now}"


def restore_all() -> list[Restored]:
    """Undo every match that is open. Raises NotPossibleHere."""
    entries = open_matches()
    if entries:
        require(Privilege.NET_ADMIN, instead="portcall restore --show lists what is open")
    # The newest first: what was there before it is then what the older ones left.
    return [restore_one(entry) for entry in reversed(entries)]


def restore_one(entry: OpenMatch) -> Restored:
    """Undo one match. Raises NotPossibleHere when the kernel refuses."""
    adapter = _find(entry)
    if adapter is None:
        return Restored(entry, None)
    was_there = remove_alone(adapter, entry.added)
    elapsed = (datetime.now(UTC) - entry.at).total_seconds()
    ended = put_back(adapter, entry.taken_off, max(elapsed, 0.0))
    close(entry)
    after = _find(entry)
    return Restored(entry, adapter.name, was_there, after.interfaces if after else (), ended)


def _find(entry: OpenMatch) -> Adapter | None:
    """The adapter as it is now: by its MAC, since it may have come back under another name."""
    same = [adapter for adapter in read_adapters() if adapter.mac == entry.mac]
    return next((a for a in same if a.name == entry.adapter), same[0] if same else None)


def listed(interfaces: Sequence[IPv4Interface]) -> str:
    """Addresses in one line."""
    return ", ".join(str(own) for own in interfaces)
