"""Where questions are asked from: an adapter, the address that answers come back to, a network.

The workstation's own addresses are vantages, and so is an address that ``host.leg`` borrows in a
subnet the workstation is not in; what asks does not know which it has.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from ipaddress import IPv4Address, IPv4Interface
from typing import Any, NamedTuple

from portcall.core.address import Mac


class Only(NamedTuple):
    """One device that is meant, of several at an address."""

    address: IPv4Address
    mac: Mac


def _here(function: Callable[[], Any]) -> Any:
    return function()


@dataclass(frozen=True, slots=True)
class Vantage:
    """A place to ask from. ``call`` runs a function whose sockets are on this network; they stay
    there.

    Without ``interface`` the kernel chooses the source address.
    """

    adapter: str
    interface: IPv4Interface | None = None
    call: Callable[[Callable[[], Any]], Any] = _here
