"""Changes between two looks at the adapters, and links that come and go."""

from __future__ import annotations

from collections import deque
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from enum import StrEnum

from portcall.core.adapters.adapter import Adapter, AdapterKind

FLAPS = 3
FLAP_WINDOW = 30.0
"""A link that is lost and comes back this often within these seconds is called flapping."""


class ChangeKind(StrEnum):
    """The changes of an adapter; the names are part of ``adapters --watch --json``."""

    APPEARED = "appeared"
    VANISHED = "vanished"
    RENAMED = "renamed"
    LINK_LOST = "link lost"
    LINK_BACK = "link back"
    FLAPPING = "flapping"
    ADDRESS_ADDED = "address added"
    ADDRESS_GONE = "address gone"


@dataclass(frozen=True, slots=True)
class AdapterChange:
    """One thing that happened to one adapter."""

    kind: ChangeKind
    adapter: Adapter
    detail: str = ""


class AdapterWatch:
    """Compares each look with the one before; times come from the caller."""

    def __init__(self, adapters: Sequence[Adapter]) -> None:
        self._before = {adapter.index: adapter for adapter in adapters}
        self._lost_at: dict[str, float] = {}
        self._speeds: dict[str, str | None] = {}
        """What each adapter's link had agreed on before it was lost."""
        self._flaps: dict[str, deque[float]] = {}

    def look(self, adapters: Sequence[Adapter], now: float) -> tuple[AdapterChange, ...]:
        """The differences since the look before."""
        after = {adapter.index: adapter for adapter in adapters}
        changes = list(self._changes(after, now))
        self._before = after
        return tuple(changes)

    def _changes(self, after: dict[int, Adapter], now: float) -> Iterator[AdapterChange]:
        for index, old in self._before.items():
            if index not in after:
                yield AdapterChange(ChangeKind.VANISHED, old)
        for index, new in after.items():
            known = self._before.get(index)
            if known is None:
                yield AdapterChange(ChangeKind.APPEARED, new)
                continue
            if known.name != new.name:
                yield AdapterChange(ChangeKind.RENAMED, new, f"was {known.name}")
            if known.link != new.link:
                if known.link:
                    self._speeds[new.name] = known.speed_words
                yield from self._link(new, now)
            for own in known.interfaces:
                if own not in new.interfaces:
                    yield AdapterChange(ChangeKind.ADDRESS_GONE, new, str(own))
            for own in new.interfaces:
                if own not in known.interfaces:
                    yield AdapterChange(ChangeKind.ADDRESS_ADDED, new, str(own))

    def _link(self, adapter: Adapter, now: float) -> Iterator[AdapterChange]:
        if not adapter.link:
            self._lost_at[adapter.name] = now
            why = "" if adapter.up else "switched off on this computer"
            yield AdapterChange(ChangeKind.LINK_LOST, adapter, why)
            return
        lost_at = self._lost_at.pop(adapter.name, None)
        told = [] if lost_at is None else [f"after {now - lost_at:.1f} s"]
        before = self._speeds.get(adapter.name)
        if before is not None and adapter.speed_words not in (None, before):
            told.append(f"{adapter.speed_words} now, {before} before")
        yield AdapterChange(ChangeKind.LINK_BACK, adapter, ", ".join(told))
        flaps = self._flaps.setdefault(adapter.name, deque(maxlen=FLAPS))
        flaps.append(now if lost_at is None else lost_at)
        if len(flaps) == FLAPS and now - flaps[0] <= FLAP_WINDOW:
            flaps.clear()
            yield AdapterChange(ChangeKind.FLAPPING, adapter, _what_to_try(adapter))


def _what_to_try(adapter: Adapter) -> str:
    speed = f" at {adapter.speed_words}" if adapter.speed_words else ""
    tries = ["another cable", "another port at the far end"]
    if adapter.kind is AdapterKind.WIRED and (adapter.speed_mbps or 0) >= 1000:
        tries.append("a fixed 100 or 10 Mbit/s, where both sides allow it")
    return (
        f"lost and back {FLAPS} times within {FLAP_WINDOW:.0f} s{speed}; "
        f"try {', then '.join(tries)}"
    )
