"""Changing an adapter's addresses, which go when the computer restarts.

What is added here is never stored as the adapter's own settings (CreateUnicastIpAddressEntry): an
adapter that asks for its address goes on asking, and one that has one typed in keeps it.
"""

from __future__ import annotations

import sys
import time
from collections.abc import Iterable, Sequence
from ipaddress import IPv4Interface

from portcall.core.adapters.adapter import Adapter
from portcall.core.adapters.put_back import PutBack, Removed
from portcall.core.trouble import NotPossibleHere
from portcall.host.windows import tables

assert sys.platform == "win32"

_DONE, _DENIED, _NOT_FOUND, _THERE_ALREADY = 0, 5, 1168, 5010
_PATIENCE = 4.0
"""Seconds until an address is in force: Windows first asks on the wire whether somebody has it."""

_LOOK_AGAIN = 0.1


def add_address(adapter: Adapter, interface: IPv4Interface, lifetime: int | None = None) -> None:
    """Add an address, for ``lifetime`` seconds or for good; one that is there gets that lifetime.

    It is in force when this returns. Raises NotPossibleHere.
    """
    code = tables.create_address(adapter.index, interface, lifetime)
    if code == _THERE_ALREADY and lifetime is not None:
        tables.delete_address(adapter.index, interface)
        code = tables.create_address(adapter.index, interface, lifetime)
    if code not in (_DONE, _THERE_ALREADY):
        raise _not_done(adapter, f"{interface} could not be added", code)
    until = time.monotonic() + _PATIENCE
    while interface not in _in_force(adapter.index):
        if time.monotonic() > until:
            raise NotPossibleHere(
                f"{adapter.name}: {interface} was added, and is not in force: somebody on the wire "
                "may have it"
            )
        time.sleep(_LOOK_AGAIN)


def remove_address(adapter: Adapter, interface: IPv4Interface) -> bool:
    """Take an address off; False when it was not there. Raises NotPossibleHere."""
    code = tables.delete_address(adapter.index, interface)
    if code == _NOT_FOUND:
        return False
    if code != _DONE:
        raise _not_done(adapter, f"{interface} could not be removed", code)
    return True


def remove_alone(adapter: Adapter, interface: IPv4Interface) -> Removed:
    """Take an address off and no other. Raises NotPossibleHere."""
    return Removed(remove_address(adapter, interface))


def save(adapter: Adapter, but: IPv4Interface | None = None) -> tuple[str, ...]:
    """Nothing, where the adapter has no other address. Raises NotPossibleHere where it has."""
    others = ", ".join(str(own) for own in adapter.interfaces if own != but)
    if others:
        raise NotPossibleHere(
            f"{adapter.name} has {others}, and on Windows what is there cannot "
            "be taken off and put back yet",
            "match without --replace",
        )
    return ()


def described(saved: Iterable[str]) -> frozenset[str]:
    """Nothing is saved there."""
    return frozenset()


def take_off(adapter: Adapter, saved: Iterable[str]) -> None:
    """Nothing is saved there."""


def put_back(adapter: Adapter, saved: Sequence[str], elapsed: float) -> PutBack:
    """Nothing is saved there, and what others have stays as it is."""
    return PutBack()


def _in_force(index: int) -> set[IPv4Interface]:
    here = (each for each in tables.adapters() if each.index == index)
    return {address.interface for each in here for address in each.addresses}


def _not_done(adapter: Adapter, trouble: str, code: int) -> NotPossibleHere:
    if code == _DENIED:
        return NotPossibleHere(
            f"{adapter.name}: {trouble}: it takes an administrator",
            "type this in a window that was opened as administrator",
        )
    return NotPossibleHere(f"{adapter.name}: {trouble}: Windows says {code}")
