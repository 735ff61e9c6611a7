"""``portcall adapters``."""

from __future__ import annotations

import click

from portcall.cli.main import YES
from portcall.cli.show import Columns, cell, console, json_option, print_json
from portcall.cli.workplace import adapters_now
from portcall.core.adapter import Adapter, AdapterKind, warnings


@click.command("adapters")
@json_option
def adapters_command(as_json: bool) -> int:
    """Show this computer's adapters: what each is, its link, its addresses, what is in the way.

    No link means: look at the cable before anything else.
    """
    adapters = [a for a in adapters_now() if a.kind is not AdapterKind.LOOPBACK]
    in_the_way = warnings(adapters)
    if as_json:
        entries = [_document(adapter, in_the_way.get(adapter.name, ())) for adapter in adapters]
        print_json({"adapters": entries})
        return YES
    shown = Columns(
        "adapter",
        "kind",
        "link",
        "address",
        "from",
        "default route",
        "mac",
        drops=("default route", "kind", "from"),
    )
    for adapter in adapters:
        addresses = adapter.addresses or (None,)
        for n, address in enumerate(addresses):
            first = n == 0
            shown.add_row(
                cell(adapter.name, "bold") if first else "",
                str(adapter.kind) if first else "",
                _link(adapter) if first else "",
                cell(address and address.interface),
                cell(address and address.origin),
                cell(_route(adapter)) if first else "",
                cell(adapter.mac) if first else "",
            )
    out = console()
    out.print(shown)
    for name, lines in in_the_way.items():
        for line in lines:
            out.print(f"{name}: {line}", style="yellow", soft_wrap=True)
    return YES


def _link(adapter: Adapter) -> str:
    if not adapter.up:
        return "switched off"
    if not adapter.link:
        return "no link"
    speed = adapter.speed_mbps
    if speed is None:
        return "link"
    shown = f"{speed / 1000:g} Gbit/s" if speed >= 1000 else f"{speed} Mbit/s"
    # Full duplex is as it should be; half of it is a cable, or a setting at the other end.
    return f"{shown} half duplex" if adapter.full_duplex is False else shown


def _route(adapter: Adapter) -> str | None:
    if not adapter.has_default_route:
        return None
    return str(adapter.default_gateway or "yes")


def _document(adapter: Adapter, in_the_way: tuple[str, ...]) -> dict[str, object]:
    return {
        "name": adapter.name,
        "kind": adapter.kind,
        "up": adapter.up,
        "link": adapter.link,
        "speed_mbps": adapter.speed_mbps,
        "full_duplex": adapter.full_duplex,
        "mtu": adapter.mtu,
        "mac": str(adapter.mac) if adapter.mac else None,
        "addresses": [
            {"address": str(entry.interface), "from": entry.origin} for entry in adapter.addresses
        ],
        "default_route": adapter.has_default_route,
        "default_gateway": str(adapter.default_gateway) if adapter.default_gateway else None,
        "warnings": list(in_the_way),
    }
