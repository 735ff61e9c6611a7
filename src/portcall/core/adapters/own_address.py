"""Choosing the workstation's own address in a device's subnet."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Sequence
from dataclasses import dataclass
from ipaddress import IPv4Address, IPv4Interface, IPv4Network

from portcall.core.address import SELF_ASSIGNED, assumed_network, check_host, hosts, may_be_chosen
from portcall.core.plan.rows import Plan, Subnet
from portcall.core.trouble import BadInput, NotPossibleHere


class AddressTaken(NotPossibleHere):
    """The operating system found that somebody has an address which it was to have."""

    def __init__(self, address: IPv4Address) -> None:
        super().__init__(f"{address} is taken")
        self.address = address


@dataclass(frozen=True, slots=True)
class Wanted:
    """The subnet to be in, and the device that was meant, if it was one.

    ``prefix_from`` says where the mask comes from.
    """

    network: IPv4Network
    target: IPv4Address | None
    prefix_from: str

    @property
    def prefix_assumed(self) -> bool:
        """True when nobody knew the mask."""
        return self.prefix_from == "assumed"


def wanted_for(target: IPv4Address | IPv4Network, plan: Plan, subnets: Sequence[Subnet]) -> Wanted:
    """The subnet a target is in: from the plan, the site, or else assumed.

    Self-assigned addresses are one subnet by their standard. Raises AddressError for a target that
    no device has in there.
    """
    if isinstance(target, IPv4Network):
        return Wanted(target, None, "typed")
    wanted = _around(target, plan, subnets)
    check_host(IPv4Interface((target, wanted.network.prefixlen)))
    return wanted


def _around(target: IPv4Address, plan: Plan, subnets: Sequence[Subnet]) -> Wanted:
    row = plan.by_address(target)
    if row and not row.mask_assumed:
        return Wanted(row.interface.network, target, "plan")
    for subnet in subnets:
        if target in subnet.network:
            return Wanted(subnet.network, target, "site")
    standard = target in SELF_ASSIGNED
    return Wanted(assumed_network(target), target, "standard" if standard else "assumed")


def candidates(
    wanted: Wanted,
    preferred: IPv4Address | None,
    avoid: Collection[IPv4Address],
    rather_not: Collection[IPv4Address] = (),
) -> Iterator[IPv4Address]:
    """Addresses the workstation may try, best first.

    The site's own choice, then from the top of the subnet down: next to a device stand others of
    its kind, and those that are switched off now do not answer. Never the target, the network or
    broadcast number, a reserved one, or one of ``avoid`` (planned addresses, gateways). Those in
    ``rather_not`` come last: the next device that is connected may start there.
    """
    usable = hosts(wanted.network)
    if preferred is not None and _is_free(preferred, wanted, avoid):
        yield preferred
    unwelcome = frozenset(rather_not)
    for is_last in (False, True):
        for number in range(int(usable.last), int(usable.first) - 1, -1):
            address = IPv4Address(number)
            if address == preferred or (address in unwelcome) is not is_last:
                continue
            if _is_free(address, wanted, avoid):
                yield address


def nearest(wanted: Wanted, avoid: Collection[IPv4Address]) -> Iterator[IPv4Address]:
    """The same addresses, those that differ least from the target's number first: the most likely
    to be in a device's subnet when its mask is not known."""
    usable, target = hosts(wanted.network), int(wanted.target or 0)
    for number in sorted(
        range(max(target - _NEAR, int(usable.first)), min(target + _NEAR, int(usable.last)) + 1),
        key=lambda number: abs(number - target),
    ):
        address = IPv4Address(number)
        if _is_free(address, wanted, avoid):
            yield address


_NEAR = 16
"""How far from a target's number an address still counts as near."""


def _is_free(address: IPv4Address, wanted: Wanted, avoid: Collection[IPv4Address]) -> bool:
    wanted_by_nobody = address != wanted.target and address not in avoid
    return address in hosts(wanted.network) and wanted_by_nobody and may_be_chosen(address)


def check_own(interface: IPv4Interface, plan: Plan, subnets: Sequence[Subnet]) -> None:
    """Raise BadInput when an address chosen by hand is planned for a device or is a gateway."""
    row = plan.by_address(interface.ip)
    if row:
        raise BadInput(
            f"{interface.ip}: the plan gives it to {row.name}", "choose an address no device has"
        )
    if any(subnet.gateway == interface.ip for subnet in subnets):
        raise BadInput(f"{interface.ip}: is the subnet's gateway", "choose another address")
