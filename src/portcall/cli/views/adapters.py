"""How this computer's adapters are shown."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from datetime import UTC, datetime

import click
from rich.text import Text

from portcall.cli.say import note, print_json_line
from portcall.cli.table import (
    Columns,
    Remark,
    Tone,
    cell,
    console,
    left_out_sentence,
    print_lines,
    print_rows,
)
from portcall.core.adapters.adapter import Adapter
from portcall.core.adapters.adapter_watch import AdapterChange, ChangeKind
from portcall.core.adapters.obstacles import Workstation, obstacles


def print_workstation(workstation: Workstation, wide: bool = False) -> None:
    """A table of the adapters, and what is in the way."""
    columns = Columns(
        "adapter",
        "kind",
        "link",
        "address",
        "from",
        "default route",
        "mac",
        "mtu",
        drops=("default route", "kind", "from", "mtu"),
    )
    rows = [row for adapter in workstation.adapters for row in _rows(adapter)]
    left_out = print_rows(columns, rows, lambda cells: cells, wide=wide)
    servers = ", ".join(workstation.name_servers) or "none"
    console().print(f"name servers: {servers}", soft_wrap=True)
    print_lines(Remark(str(obstacle), Tone.TO_DO) for obstacle in obstacles(workstation))
    if left_out:
        note(left_out_sentence(left_out))


def _rows(adapter: Adapter) -> Iterator[Sequence[Text]]:
    """A row for the adapter, and one more for each further address."""
    nothing = Text()
    for n, address in enumerate(adapter.addresses or (None,)):
        own = (cell(address and address.interface), cell(address and address.origin))
        if n > 0:
            yield (nothing, nothing, nothing, *own, nothing, nothing, nothing)
            continue
        yield (
            cell(adapter.name, "bold"),
            cell(adapter.kind),
            cell(link_words(adapter), "" if adapter.link else Tone.INFORMATION),
            *own,
            cell(_route(adapter)),
            cell(adapter.mac),
            cell(adapter.mtu),
        )


_COLOURS = {
    ChangeKind.APPEARED: "green",
    ChangeKind.VANISHED: "red",
    ChangeKind.RENAMED: "yellow",
    ChangeKind.LINK_LOST: "red",
    ChangeKind.LINK_BACK: "green",
    ChangeKind.FLAPPING: "yellow",
    ChangeKind.ADDRESS_ADDED: None,
    ChangeKind.ADDRESS_GONE: None,
}

_WORDS = {
    ChangeKind.APPEARED: "has appeared",
    ChangeKind.VANISHED: "is gone from this computer",
    ChangeKind.RENAMED: "has this name now,",
    ChangeKind.LINK_LOST: "lost its link",
    ChangeKind.LINK_BACK: "has its link back",
    ChangeKind.FLAPPING: "is FLAPPING:",
    ChangeKind.ADDRESS_ADDED: "was given",
    ChangeKind.ADDRESS_GONE: "no longer has",
}


def _sentence(change: AdapterChange) -> str:
    parts = [change.adapter.name, _WORDS[change.kind], change.detail]
    if change.kind is ChangeKind.LINK_BACK and change.adapter.speed_mbps:
        parts.append(f"at {link_words(change.adapter)}")
    return " ".join(part for part in parts if part)


def link_words(adapter: Adapter) -> str:
    """The link in a few words."""
    if not adapter.up:
        return "switched off"
    if not adapter.link:
        return "no link"
    return adapter.speed_words or "link"


def _route(adapter: Adapter) -> str | None:
    route = adapter.default_route
    return None if route is None else str(route.gateway or "yes")


def workstation_document(workstation: Workstation) -> dict[str, object]:
    """The same for programs."""
    found = obstacles(workstation)
    return {
        "adapters": [
            {
                "name": adapter.name,
                "kind": adapter.kind,
                "up": adapter.up,
                "link": adapter.link,
                "speed_mbps": adapter.speed_mbps,
                "full_duplex": adapter.full_duplex,
                "mtu": adapter.mtu,
                "mac": str(adapter.mac) if adapter.mac else None,
                "addresses": [
                    {
                        "address": str(entry.interface),
                        "from": entry.origin,
                        "seconds_left": entry.seconds_left,
                    }
                    for entry in adapter.addresses
                ],
                "routes": [
                    {
                        "to": str(route.destination),
                        "gateway": str(route.gateway) if route.gateway else None,
                    }
                    for route in adapter.other_routes
                ],
                "warnings": [
                    obstacle.text for obstacle in found if obstacle.adapter == adapter.name
                ],
            }
            for adapter in workstation.adapters
        ],
        "name_servers": list(workstation.name_servers),
        "warnings": [obstacle.text for obstacle in found if obstacle.adapter is None],
    }


def print_change(change: AdapterChange) -> None:
    """One line about a change of an adapter."""
    click.secho(f"{datetime.now():%H:%M:%S}  {_sentence(change)}", fg=_COLOURS[change.kind])


def print_change_as_json(change: AdapterChange) -> None:
    """The same for programs."""
    print_json_line(
        {
            "event": change.kind,
            "adapter": change.adapter.name,
            "link": change.adapter.link,
            "speed_mbps": change.adapter.speed_mbps,
            "detail": change.detail or None,
            "at": datetime.now(UTC).isoformat(timespec="milliseconds"),
        }
    )
