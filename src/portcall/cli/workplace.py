"""Where a command stands: the site it is in, the plan, the adapter it may use."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import closing, contextmanager
from ipaddress import IPv4Address, IPv4Network
from itertools import chain, islice
from pathlib import Path
from typing import TYPE_CHECKING

import click

from portcall.cli.say import note
from portcall.core.adapters import adapter as adapter_rules
from portcall.core.adapters.adapter import Adapter
from portcall.core.address import (
    AddressError,
    AddressRange,
    hosts,
    joined,
    parse_address,
    parse_range,
    parse_subnet,
)
from portcall.core.plan.reading import PlanError
from portcall.core.plan.rows import Plan
from portcall.core.trouble import BadInput
from portcall.host.adapters import read_adapters
from portcall.site.folder import Site, find_site
from portcall.site.journal import open_matches

if TYPE_CHECKING:
    from portcall.core.catalog.catalog import Catalog

adapter_option = click.option(
    "--adapter",
    "adapter_name",
    metavar="NAME",
    help="The adapter with the plant's cable. Without it, the only wired one that fits is used.",
)

capture_option = click.option(
    "--capture",
    metavar="FILE",
    help="Write what is sent and heard to FILE, as pcapng.",
)

MOST_ADDRESSES = 65_536
_MOST_ADDRESSES_AT_ALL = 16_777_216
_MOST_DEFAULTS = 4096


def this_site() -> Site:
    """The site that the current folder is in; a folder that was deleted is in none."""
    try:
        here = Path.cwd()
    except FileNotFoundError:
        return Site()
    return find_site(here)


def plan_if_sound(site: Site) -> Plan:
    """The site's plan for a command that can do without: a broken one is said and left out."""
    try:
        return site.plan()
    except PlanError as error:
        note(f"the plan is left out, it has {len(error.problems)} mistakes: portcall plan check")
        return Plan()


def adapters_now() -> tuple[Adapter, ...]:
    """This computer's adapters, with addresses that match added named so."""
    return read_adapters((entry.adapter, entry.added) for entry in open_matches())


def chosen_adapter(name: str | None) -> Adapter:
    """The adapter to use; says which when nobody named it. Raises NotPossibleHere."""
    adapter = adapter_rules.choose(adapters_now(), name)
    if name is None:
        note(f"on {adapter.name}, the only wired adapter with link that no route needs")
    return adapter


def parse_target(text: str, plan: Plan) -> IPv4Address | IPv4Network:
    """A device's address, a subnet, or the name of a planned device. Raises BadInput."""
    row = plan.by_name(text)
    if row:
        return row.address
    looks_numeric = text[:1].isdigit() and all(c.isdigit() or c in "./" for c in text)
    if not looks_numeric:
        raise BadInput(f"{text}: is no address, and {_names(plan)}")
    return parse_subnet(text) if "/" in text else parse_address(text)


def record(adapter: Adapter, capture: str | None) -> None:
    """Until the command ends, write what passes the adapter to a file. Raises NotPossibleHere."""
    if capture is not None:
        click.get_current_context().with_resource(_recording(adapter, capture))


@contextmanager
def _recording(adapter: Adapter, capture: str) -> Iterator[None]:
    from portcall.host.recorder import Recorder
    from portcall.site.captures import CaptureFile

    with (
        CaptureFile(Path(capture), adapter.name) as file,
        closing(Recorder(adapter.name, file.write)),
    ):
        yield
    note(f"what was sent and heard is in {capture}")


def parse_targets(
    texts: tuple[str, ...], plan: Plan, large: bool = False
) -> tuple[AddressRange, ...]:
    """Addresses, ranges, subnets and planned names. Raises BadInput."""
    spans = []
    for text in texts:
        row = plan.by_name(text)
        if row:
            spans.append(AddressRange(row.address, row.address))
        elif text[:1].isdigit():
            spans.append(parse_range(text))
        else:
            raise BadInput(f"{text}: is no address or range, and {_names(plan)}")
    return bounded(joined(spans), large)


def bounded(ranges: tuple[AddressRange, ...], large: bool = False) -> tuple[AddressRange, ...]:
    """The ranges, unless they are more than anybody means. Raises AddressError."""
    total = sum(len(span) for span in ranges)
    most = _MOST_ADDRESSES_AT_ALL if large else MOST_ADDRESSES
    if total > most:
        shown = ", ".join(str(span) for span in ranges)
        lifted = "" if large else ", or lift the limit with --large"
        raise AddressError(
            f"{shown}: has {total:,} addresses; one sweep takes at most {most:,}; "
            f"name a smaller range{lifted}"
        )
    return ranges


def never_ours(site: Site, plan: Plan) -> set[IPv4Address]:
    """Addresses this computer must not take, also when nobody answers there.

    They are planned, are gateways, or are makers' defaults: where the next device starts that is
    connected.
    """
    taken = {row.address for row in plan} | {s.gateway for s in site.subnets if s.gateway}
    return taken.union(maker_defaults(site))


def maker_defaults(site: Site) -> list[IPv4Address]:
    """The addresses at which makers' devices start, one by one, as many as anybody watches."""
    return list(islice(chain.from_iterable(site.maker_defaults), _MOST_DEFAULTS))


def usual_ranges(
    adapter: Adapter, site: Site, plan: Plan, catalog: Catalog
) -> tuple[AddressRange, ...]:
    """Where to look when nobody says: the adapter's subnets, the site's, and makers' defaults."""
    spans = [hosts(own.network) for own in adapter.interfaces]
    spans += [hosts(subnet.network) for subnet in site.subnets]
    spans += [AddressRange(row.address, row.address) for row in plan]
    return bounded(joined([*spans, *site.maker_defaults, *catalog.defaults]))


def _names(plan: Plan) -> str:
    names = ", ".join(row.name for row in plan)
    return f"the plan has {names}" if names else "there is no plan here that could name it"
