"""This computer's adapters: all of them, the one to use, and what is in the way."""

from __future__ import annotations

import os
from dataclasses import dataclass

from portcall.core.adapters.adapter import Adapter, AdapterKind, choose
from portcall.core.adapters.obstacles import Workstation
from portcall.core.address import hosts
from portcall.host.adapters import leaves_by, name_servers, read_adapters
from portcall.jobs.telling import Tell, nobody
from portcall.site.folder import Site
from portcall.site.matches import open_matches

_PROXY_VARIABLES = ("http_proxy", "https_proxy", "all_proxy", "HTTP_PROXY", "HTTPS_PROXY")


@dataclass(frozen=True, slots=True)
class Chosen:
    """Nobody named an adapter, and only this one fits."""

    adapter: Adapter

    def __str__(self) -> str:
        other = "route leads over it" if not self.adapter.other_routes else "default route uses it"
        return (
            f"using {self.adapter.name}: the only wired adapter that has a link and that no {other}"
        )


def adapters_now() -> tuple[Adapter, ...]:
    """This computer's adapters, with addresses that match added named so."""
    return read_adapters((entry.adapter, entry.added) for entry in open_matches())


def chosen_adapter(name: str | None, tell: Tell = nobody) -> Adapter:
    """The adapter to use; tells which when nobody named it. Raises NotPossibleHere."""
    adapter = choose(adapters_now(), name)
    if name is None:
        tell(Chosen(adapter))
    return adapter


def as_it_is_now(adapter: Adapter) -> Adapter:
    """The same adapter with the addresses it has now; as it was when it is gone."""
    return next((each for each in adapters_now() if each.index == adapter.index), adapter)


def workstation_now(site: Site) -> Workstation:
    """This computer's network, with what may be in the way of the site's subnets."""
    adapters = adapters_now()
    networks = [subnet.network for subnet in site.subnets]
    networks += [
        own.network for a in adapters if a.kind is AdapterKind.WIRED for own in a.interfaces
    ]
    paths = {network: leaves_by(hosts(network).first) for network in networks}
    proxies = tuple(name for name in _PROXY_VARIABLES if os.environ.get(name))
    kinds = list(AdapterKind)
    ordered = sorted(adapters, key=lambda adapter: kinds.index(adapter.kind))
    return Workstation(tuple(ordered), name_servers(), proxies, paths)
