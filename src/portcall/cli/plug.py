"""Asking the person at the terminal which adapter has the plant's cable.

What needs asyncio is imported where it is used, as for ``match``.
"""

from __future__ import annotations

import sys
from collections.abc import Sequence
from typing import TYPE_CHECKING

import click

from portcall.cli.say import note, wants_json
from portcall.core.adapters.adapter import Adapter
from portcall.core.adapters.adapter_watch import AdapterChange, ChangeKind

if TYPE_CHECKING:
    import asyncio

_PATIENCE = 120.0
_CAME = (ChangeKind.LINK_BACK, ChangeKind.APPEARED)
_WENT = (ChangeKind.LINK_LOST, ChangeKind.VANISHED)


class AtTheCables:
    """The person who can pull a plug."""

    def may_use(self, adapter: Adapter) -> bool:
        """Ask whether the only cable is meant."""
        return click.confirm(
            f"{adapter.name} has the only cable, and the default route leads over it; use it at "
            "this site?",
            default=False,
            err=True,
        )

    def one_of(self, adapters: Sequence[Adapter]) -> Adapter | None:
        """Watch which plug is pulled and put back."""
        from portcall.cli.running import run_until_interrupted
        from portcall.jobs.workstation.watching import watch_for

        names = " or ".join(each.name for each in adapters)
        note(
            f"which has the plant's cable, {names}? Pull its plug and put it back, within "
            f"{_PATIENCE:.0f} s; Ctrl-C ends it …"
        )
        meant = {each.mac: each for each in adapters}
        went: set[object] = set()
        found: list[Adapter] = []

        async def watch(interrupt: asyncio.Event) -> None:
            def report(change: AdapterChange) -> None:
                mac = change.adapter.mac
                if mac in meant and change.kind in _WENT:
                    went.add(mac)
                    note(f"{change.adapter.name} is out; put it back")
                elif mac in went and change.kind in _CAME and change.adapter.link:
                    found.append(change.adapter)
                    interrupt.set()

            await watch_for(report, _PATIENCE, interrupt)

        run_until_interrupted(watch)
        if not found:
            return None
        note(f"{found[0].name} has the plant's cable; that is remembered for this site")
        return found[0]


def person_at_the_cables() -> AtTheCables | None:
    """The person, where one is at the terminal and nobody wants JSON."""
    if wants_json() or not sys.stdin.isatty() or not sys.stderr.isatty():
        return None
    return AtTheCables()
