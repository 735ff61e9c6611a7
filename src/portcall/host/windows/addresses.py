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
from portcall.core.adapters.own_address import AddressTaken
from portcall.core.adapters.put_back import NotPutBack, PutBack, Removed
from portcall.core.trouble import NotPossibleHere
from portcall.host.windows import tables
from portcall.host.windows.adapters import BY_DHCP, leads
from portcall.host.windows.capture import has_driver
from portcall.host.windows.tables import AddressSeen, RouteSeen

assert sys.platform == "win32"

_DONE, _DENIED, _NOT_FOUND, _THERE_ALREADY = 0, 5, 1168, 5010
_DUPLICATE, _IN_FORCE = 2, (3, 4)
"""Of an address: somebody else has it; it is in force, as an old one or not (NL_DAD_STATE)."""

_PATIENCE = 4.0
"""Seconds until an address is in force: Windows first asks on the wire whether somebody has it."""

_LOOK_AGAIN = 0.1


def add_address(adapter: Adapter, interface: IPv4Interface, lifetime: int | None = None) -> None:
    """Add an address, for ``lifetime`` seconds or for good; one that is there gets that lifetime.

    It is in force when this returns: Windows asks before whether somebody has it (RFC 5227 §2.1).
    Raises AddressTaken where somebody has, NotPossibleHere.
    """
    code = tables.create_address(adapter.index, interface, lifetime)
    if code == _THERE_ALREADY and lifetime is not None:
        tables.delete_address(adapter.index, interface)
        code = tables.create_address(adapter.index, interface, lifetime)
    if code not in (_DONE, _THERE_ALREADY):
        raise _not_done(adapter, f"{interface} could not be added", code)
    until = time.monotonic() + _PATIENCE
    while (state := _state_of(adapter.index, interface)) not in _IN_FORCE:
        if state == _DUPLICATE:
            tables.delete_address(adapter.index, interface)
            raise AddressTaken(interface.ip)
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
    """Take an address off and no other. Raises NotPossibleHere.

    What goes with it, and can be there without it, is put back at once.
    """
    rows = _addresses_of(adapter, but=interface)
    others = tuple(row.hex() for row in (*rows.values(), *_ways_of(adapter)))
    was_there = remove_address(adapter, interface)
    return Removed(was_there, put_back(adapter, others, 0.0).left)


def save(adapter: Adapter, but: IPv4Interface | None = None) -> tuple[str, ...]:
    """An adapter's addresses, and the routes somebody made through it, as ``put_back`` takes them.

    ``but`` is an address that stays as it is. One line of text each: to be kept, not to be read.
    Raises NotPossibleHere where Windows asked for one of them: it would ask again at once.
    """
    seen = next((each for each in tables.adapters() if each.index == adapter.index), None)
    by_dhcp = {own.interface for own in seen.addresses if own.origin == BY_DHCP} if seen else set()
    rows = _addresses_of(adapter, but)
    asked = [own for own in rows if own in by_dhcp]
    if asked:
        raise NotPossibleHere(
            f"{adapter.name} has {asked[0]} by DHCP, and Windows would ask for it again at once",
            "match without --replace",
        )
    return tuple(row.hex() for row in (*rows.values(), *_ways_of(adapter)))


def _addresses_of(adapter: Adapter, but: IPv4Interface | None) -> dict[IPv4Interface, bytes]:
    """The rows of an adapter's addresses, but for one."""
    found = {}
    for row in tables.address_rows(adapter.index):
        own = tables.read_row(row)
        if isinstance(own, AddressSeen) and own.interface != but:
            found[own.interface] = row
    return found


def _ways_of(adapter: Adapter) -> list[bytes]:
    """The rows of the routes that somebody made by an adapter, and not Windows with an address."""
    subnets = {own.network for own in adapter.interfaces}
    found = []
    for row in tables.route_rows(adapter.index):
        way = tables.read_row(row)
        if not isinstance(way, RouteSeen) or not leads(way):
            continue
        if way.gateway is not None or way.destination not in subnets:
            found.append(row)
    return found


def described(saved: Iterable[str]) -> frozenset[str]:
    """Saved addresses and routes as people write them."""
    return frozenset(_named(seen) for line in saved if (seen := _saved(line)) is not None)


def take_off(adapter: Adapter, saved: Iterable[str]) -> None:
    """Remove the saved addresses. Raises NotPossibleHere."""
    for seen in filter(None, map(_saved, saved)):
        if isinstance(seen, AddressSeen):
            remove_address(adapter, seen.interface)


def put_back(adapter: Adapter, saved: Sequence[str], elapsed: float) -> PutBack:
    """Have saved addresses and routes in force again, as far as they go.

    ``elapsed`` is how many seconds ago they were saved: addresses whose lifetime has ended since
    then are not put back, nor are routes that only they had reached. What others added meanwhile
    stays. Raises NotPossibleHere without privilege.
    """
    left, ended, leased = [], [], []
    for line in saved:
        seen = _saved(line)
        if seen is None:
            what = f"what was saved as {line[:40]!r}"
            left.append(NotPutBack(line, what, "it is damaged", damaged=True))
            continue
        if isinstance(seen, AddressSeen) and seen.seconds_left is not None:
            leased.append(seen.interface)
            if seen.seconds_left <= elapsed:
                ended.append(seen.interface)
                continue
        if isinstance(seen, RouteSeen) and any(
            seen.gateway in own.network for own in ended if seen.gateway is not None
        ):
            continue
        code = tables.create_row(bytes.fromhex(line), adapter.index, elapsed)
        if code == _DENIED:
            raise _not_done(adapter, f"{_named(seen)} could not be put back", code)
        if code not in (_DONE, _THERE_ALREADY):
            left.append(NotPutBack(line, _named(seen), f"Windows says {code}"))
    return PutBack(tuple(ended), tuple(left), tuple(leased))


def _saved(line: str) -> AddressSeen | RouteSeen | None:
    """What a saved line says; None when it is damaged."""
    try:
        return tables.read_row(bytes.fromhex(line))
    except ValueError:
        return None


def _named(seen: AddressSeen | RouteSeen) -> str:
    """An address or a route as people write it."""
    if isinstance(seen, AddressSeen):
        return str(seen.interface)
    where = str(seen.destination) if seen.destination.prefixlen else "everywhere"
    return f"the route to {where}" + (f" via {seen.gateway}" if seen.gateway else "")


def asks_itself() -> bool:
    """Whether it is left to Windows to ask if an address is taken, when that is added: nobody else
    can, where no capture driver is installed."""
    return not has_driver()


def found_taken(adapter: Adapter, interface: IPv4Interface) -> bool:
    """Whether Windows found that somebody has an address of this adapter; it asks anew when a link
    is back."""
    return _state_of(adapter.index, interface) == _DUPLICATE


def _state_of(index: int, interface: IPv4Interface) -> int | None:
    """How far Windows is with an address (NL_DAD_STATE); None where it is not there."""
    here = (each for each in tables.adapters() if each.index == index)
    own = (address for each in here for address in each.addresses)
    return next((each.state for each in own if each.interface == interface), None)


def _not_done(adapter: Adapter, trouble: str, code: int) -> NotPossibleHere:
    if code == _DENIED:
        return NotPossibleHere(
            f"{adapter.name}: {trouble}: it takes an administrator",
            "type this in a window that was opened as administrator",
        )
    return NotPossibleHere(f"{adapter.name}: {trouble}: Windows says {code}")
