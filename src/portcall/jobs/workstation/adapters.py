"""This computer's adapters: all of them, the one to use, and what is in the way."""

from __future__ import annotations

import os
from collections.abc import Sequence
from dataclasses import dataclass
from ipaddress import IPv4Address
from typing import Protocol

from portcall.core.adapters.adapter import Adapter, AdapterKind, choose, plugged
from portcall.core.adapters.obstacles import Workstation
from portcall.core.address import hosts
from portcall.core.trouble import NotPossibleHere
from portcall.host.adapters import leaves_by, name_servers, read_adapters
from portcall.jobs.telling import Tell, nobody
from portcall.site.folder import Site
from portcall.site.matches import open_matches
from portcall.site.remembered import remember_adapter, remembered_adapter
from portcall.site.visits import this_visit

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


@dataclass(frozen=True, slots=True)
class Remembered:
    """Nobody named an adapter in this line, and it was named before."""

    name: str
    by: str

    def __str__(self) -> str:
        return f"using {self.name}, {self.by}"


@dataclass(frozen=True, slots=True)
class OnlyCable:
    """Nobody named an adapter, and this one has the only cable, though a default route uses it."""

    name: str

    def __str__(self) -> str:
        return f"using {self.name}: it has the only cable, and the default route leads over it"


class Choose(Protocol):
    """A person who can say which adapter has the plant's cable."""

    def may_use(self, adapter: Adapter) -> bool:
        """Whether the only cable may be used, though the default route leads over it."""

    def one_of(self, adapters: Sequence[Adapter]) -> Adapter | None:
        """The adapter of these whose plug was pulled and put back; None when none was."""


ADAPTER_VARIABLE = "PORTCALL_ADAPTER"


def named_before(site: Site) -> Remembered | None:
    """The adapter that the environment names, or the site."""
    by_environment = os.environ.get(ADAPTER_VARIABLE)
    visited = by_visit()
    if visited is not None:
        return visited
    if by_environment:
        return Remembered(by_environment, f"as {ADAPTER_VARIABLE} says")
    if site.adapter is not None:
        return Remembered(site.adapter, "as site.toml says")
    mac = remembered_adapter(site.folder)
    here = next((each for each in adapters_now() if mac is not None and each.mac == mac), None)
    return Remembered(here.name, "as you said at this site before") if here is not None else None


def by_visit() -> Remembered | None:
    """The adapter of the visit in whose shell this is typed, unless another one is named there.

    It may have come back under another name since the variable was set.
    """
    around = this_visit()
    if around is None:
        return None
    if os.environ.get(ADAPTER_VARIABLE, "") not in ("", around.named_adapter):
        return None
    return Remembered(around.adapter, "with which this visit is made")


def matched_now() -> Remembered | None:
    """The one adapter that is matched, until it is restored; None when there are several."""
    names = {entry.adapter for entry in open_matches() if entry.visitor is None}
    if len(names) != 1:
        return None
    return Remembered(names.pop(), "which is matched until: portcall restore")


def adapters_now() -> tuple[Adapter, ...]:
    """This computer's adapters, with addresses that match added named so."""
    return read_adapters((entry.adapter, entry.added) for entry in open_matches())


@dataclass(frozen=True, slots=True)
class InSubnet:
    """Nobody named an adapter, no wired one fits, and this one is in the target's subnet."""

    name: str
    target: IPv4Address

    def __str__(self) -> str:
        return f"using {self.name}, which is in the subnet of {self.target}"


def is_named(name: str | None, site: Site) -> bool:
    """Whether somebody said which adapter it is: in this line, the environment, or the site."""
    return name is not None or named_before(site) is not None


def chosen_adapter(
    name: str | None,
    site: Site | None = None,
    tell: Tell = nobody,
    target: IPv4Address | None = None,
    harmless: bool = False,
    person: Choose | None = None,
) -> Adapter:
    """The adapter to use; tells which when nobody named it in this line.

    The nearest word counts: ``name``, the environment, the site, the adapter that is matched; else
    the only one that fits; else the one in the ``target``'s subnet; else the one with the only
    cable, where that is ``harmless`` though a default route leads over it, or a ``person`` says so;
    or the one whose plug a person pulls. Never another one than was named. Raises NotPossibleHere.
    """
    adapters = adapters_now()
    if name is not None:
        return choose(adapters, name)
    before = named_before(site or Site()) or matched_now()
    if before is None:
        try:
            adapter = choose(adapters, None)
        except NotPossibleHere:
            inside = [each for each in adapters if _stands_at(each, target)]
            if target is not None and len(inside) == 1:
                tell(InSubnet(inside[0].name, target))
                return inside[0]
            cables = plugged(adapters)
            if len(cables) == 1 and harmless:
                tell(OnlyCable(cables[0].name))
                return cables[0]
            said = _asked(cables, person)
            if said is None:
                raise
            assert said.mac is not None
            remember_adapter((site or Site()).folder, said.mac)
            return said
        tell(Chosen(adapter))
        return adapter
    try:
        adapter = choose(adapters, before.name)
    except NotPossibleHere as trouble:
        raise NotPossibleHere(f"{trouble} ({before})") from None
    if before != by_visit():
        tell(before)
    return adapter


def _asked(cables: Sequence[Adapter], person: Choose | None) -> Adapter | None:
    """The adapter that a person says, where there is one who can be asked."""
    if person is None or not cables:
        return None
    if len(cables) == 1:
        return cables[0] if person.may_use(cables[0]) else None
    return person.one_of(cables)


def _stands_at(adapter: Adapter, target: IPv4Address | None) -> bool:
    """Whether an adapter has a link, and the target in a subnet of its own."""
    usable = adapter.link and adapter.mac is not None
    return usable and target is not None and adapter.on_subnet_of(target) is not None


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
