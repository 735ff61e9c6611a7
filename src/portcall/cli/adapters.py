"""``portcall adapters``."""

from __future__ import annotations

import asyncio
import os
import signal
from datetime import UTC, datetime

import click

from portcall.cli.main import INTERRUPTED, YES
from portcall.cli.say import json_option, note, print_json, print_json_line
from portcall.cli.workplace import adapters_now, this_site
from portcall.core.adapters.adapter import Adapter, AdapterKind
from portcall.core.adapters.adapter_watch import AdapterChange, ChangeKind
from portcall.core.adapters.obstacles import Workstation, obstacles
from portcall.core.address import hosts
from portcall.host.adapters import leaves_by, name_servers


@click.command("adapters")
@click.option("--watch", is_flag=True, help="Go on, and say what changes: pull the plug to see.")
@click.option(
    "--for",
    "seconds",
    metavar="SECONDS",
    type=click.FloatRange(0, 1e6, min_open=True),
    help="With --watch: stop after this time.",
)
@json_option
def adapters_command(watch: bool, seconds: float | None, as_json: bool) -> int:
    """Show this computer's adapters: what each is, its link, its addresses, what is in the way.

    No link means: look at the cable before anything else. Which adapter has the cable? Run it with
    --watch, pull the plug, and see which one loses its link.
    """
    if seconds is not None and not watch:
        raise click.UsageError("--for goes with --watch")
    workstation = _workstation()
    if watch:
        if not as_json:
            _print(workstation)
        return asyncio.run(_watch(seconds, as_json))
    if as_json:
        print_json(_document(workstation))
    else:
        _print(workstation)
    return YES


def _workstation() -> Workstation:
    """This computer's network, with what may be in the way of the site's subnets."""
    adapters = adapters_now()
    networks = [subnet.network for subnet in this_site().subnets]
    networks += [
        own.network for a in adapters if a.kind is AdapterKind.WIRED for own in a.interfaces
    ]
    paths = {network: leaves_by(hosts(network).first) for network in networks}
    proxies = tuple(
        name
        for name in ("http_proxy", "https_proxy", "all_proxy", "HTTP_PROXY", "HTTPS_PROXY")
        if os.environ.get(name)
    )
    kinds = list(AdapterKind)
    ordered = sorted(adapters, key=lambda adapter: kinds.index(adapter.kind))
    return Workstation(tuple(ordered), name_servers(), proxies, paths)


def _print(workstation: Workstation) -> None:
    from portcall.cli.show import Columns, cell, console

    shown = Columns(
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
    for adapter in workstation.adapters:
        for n, address in enumerate(adapter.addresses or (None,)):
            own = (cell(address and address.interface), cell(address and address.origin))
            if n > 0:
                shown.add_row("", "", "", *own, "", "", "")
                continue
            shown.add_row(
                cell(adapter.name, "bold"),
                cell(adapter.kind),
                cell(link_words(adapter), "" if adapter.link else "yellow"),
                *own,
                cell(_route(adapter)),
                cell(adapter.mac),
                cell(adapter.mtu),
            )
    out = console()
    out.print(shown)
    servers = ", ".join(workstation.name_servers) or "none"
    out.print(f"name servers: {servers}")
    for obstacle in obstacles(workstation):
        out.print(str(obstacle), style="yellow", soft_wrap=True)


async def _watch(seconds: float | None, as_json: bool) -> int:
    from portcall.host.jobs.watch import watch

    loop = asyncio.get_running_loop()
    stop = asyncio.Event()
    interrupted = asyncio.Event()

    def interrupt() -> None:
        interrupted.set()
        stop.set()

    def report(change: AdapterChange) -> None:
        if as_json:
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
        else:
            click.secho(f"{datetime.now():%H:%M:%S}  {_sentence(change)}", fg=_COLOURS[change.kind])

    loop.add_signal_handler(signal.SIGINT, interrupt)
    if seconds is not None:
        loop.call_later(seconds, stop.set)
    note("watching; pull a plug to see whose it is; Ctrl-C ends it")
    await watch(report, stop)
    return INTERRUPTED if interrupted.is_set() else YES


_COLOURS = {
    ChangeKind.APPEARED: "green",
    ChangeKind.VANISHED: "red",
    ChangeKind.LINK_LOST: "red",
    ChangeKind.LINK_BACK: "green",
    ChangeKind.FLAPPING: "yellow",
    ChangeKind.ADDRESS_ADDED: None,
    ChangeKind.ADDRESS_GONE: None,
}

_WORDS = {
    ChangeKind.APPEARED: "has appeared",
    ChangeKind.VANISHED: "is gone from this computer",
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


def _document(workstation: Workstation) -> dict[str, object]:
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
