"""The numbers that a plan leaves for devices to come."""

from __future__ import annotations

from collections.abc import Container, Iterator, Sequence
from ipaddress import IPv4Address, IPv4Interface, IPv4Network

from portcall.core.address import AddressRange, hosts, may_be_chosen
from portcall.core.finding import Line
from portcall.core.plan.rows import Plan, Subnet
from portcall.core.trouble import BadInput


def networks_of(plan: Plan, subnets: Sequence[Subnet]) -> tuple[IPv4Network, ...]:
    """The subnets of a site, in order: those of its settings, and those of its rows."""
    rows = (row.interface.network for row in plan)
    return tuple(sorted({*(subnet.network for subnet in subnets), *rows}))


def own_span(own: Sequence[IPv4Interface], networks: Sequence[IPv4Network]) -> AddressRange:
    """The addresses that are meant where no subnet was named: of the wire that this computer is on.

    The site's only subnet, or the only one of them that this computer is in; without a site, this
    computer's own. Raises BadInput where that is not one.
    """
    here = {each.network for each in own}
    both = [each for each in networks if each in here]
    for choice in (both, networks, sorted(here) if not networks else []):
        if len(choice) == 1:
            return hosts(choice[0])
    meant = both or networks or sorted(here)
    if not meant:
        raise BadInput(
            "no subnet is known here: neither the plan nor this computer's adapter is in one",
            Line("free", "SUBNET"),
        )
    shown = ", ".join(map(str, meant))
    raise BadInput(f"which subnet is meant? There are {shown}", Line("free", meant[0]))


def unplanned(
    span: AddressRange,
    networks: Sequence[IPv4Network],
    avoid: Container[IPv4Address],
    rather_not: Container[IPv4Address] = (),
) -> Iterator[IPv4Address]:
    """The addresses of a range that a device to come may have, from the lowest up.

    Left out are those to ``avoid``, and the first and last number of each of these subnets. Those
    in ``rather_not`` come last: the next fresh device may start there.
    """
    edges = {
        edge
        for each in networks
        if each.prefixlen < 31
        for edge in (each.network_address, each.broadcast_address)
    }
    for is_last in (False, True):
        for address in span:
            if address in avoid or address in edges or (address in rather_not) is not is_last:
                continue
            if may_be_chosen(address):
                yield address
