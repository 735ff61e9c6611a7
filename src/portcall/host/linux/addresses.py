"""Changing an adapter's addresses, and putting them back exactly as they were."""

from __future__ import annotations

import errno
import socket
import struct
from collections.abc import Iterable, Sequence, Set
from ipaddress import IPv4Address, IPv4Interface

from portcall.core.adapters.adapter import Adapter
from portcall.core.adapters.put_back import NotPutBack, PutBack, Removed
from portcall.core.trouble import NotPossibleHere
from portcall.host.linux.adapters import (
    BY_KERNEL,
    FOR_GOOD,
    address_messages,
    index_of,
    interface_of,
    lifetime_of,
    routes_of_all_tables,
    uses,
)
from portcall.host.linux.rtnetlink import (
    AddressAttribute,
    Message,
    MessageKind,
    Netlink,
    RouteAttribute,
    attributes,
    pack,
)

_ADDRESS_SETTABLE = {
    AddressAttribute.ADDRESS,
    AddressAttribute.LOCAL,
    AddressAttribute.LABEL,
    AddressAttribute.BROADCAST,
    AddressAttribute.FLAGS,
    AddressAttribute.PRIORITY,
}
"""What of an address can be given to the kernel; its lifetime only when it has one."""

_ROUTE_SETTABLE = {
    RouteAttribute.DESTINATION,
    RouteAttribute.OUT,
    RouteAttribute.GATEWAY,
    RouteAttribute.PRIORITY,
    RouteAttribute.SOURCE,
    RouteAttribute.METRICS,
    RouteAttribute.MULTIPATH,
    RouteAttribute.TABLE,
}


_DONE_ALREADY = (errno.EADDRNOTAVAIL, errno.ENODEV, errno.EEXIST)
"""What the kernel says when an address is not there to be removed, or is there already."""


def add_address(adapter: Adapter, interface: IPv4Interface, lifetime: int | None = None) -> None:
    """Add an address, for ``lifetime`` seconds or for good; one that is there gets that lifetime.

    Raises NotPossibleHere.
    """
    message = _address_message(MessageKind.NEW_ADDRESS, adapter, interface)
    if lifetime is not None:
        cache = struct.pack("=IIII", lifetime, lifetime, 0, 0)
        message = Message(
            message.kind, message.fixed, (*message.attributes, (AddressAttribute.CACHE, cache))
        )
    _put(message, adapter, f"{interface} could not be added", again=lifetime is not None)


def asks_itself() -> bool:
    """Whether it is left to the system to ask if an address is taken: this one does not."""
    return False


def found_taken(adapter: Adapter, interface: IPv4Interface) -> bool:
    """Whether the system found that somebody has an address: this one does not ask."""
    return False


def remove_address(adapter: Adapter, interface: IPv4Interface) -> bool:
    """Take an address off; False when it was not there. Raises NotPossibleHere."""
    message = _address_message(MessageKind.DELETE_ADDRESS, adapter, interface)
    return _put(message, adapter, f"{interface} could not be removed")


def remove_alone(adapter: Adapter, interface: IPv4Interface) -> Removed:
    """Take an address off and no other. Raises NotPossibleHere.

    With the first address of a subnet the kernel removes the later ones of that subnet too, unless
    it is told to promote them: those are put back at once.
    """
    saved = save(adapter)
    others = [
        line
        for line in saved
        if (message := _saved(line)) is None
        or message.kind is not MessageKind.NEW_ADDRESS
        or interface_of(message) != interface
    ]
    was_there = remove_address(adapter, interface)
    return Removed(was_there, put_back(adapter, others, 0.0).left)


def _address_message(kind: MessageKind, adapter: Adapter, interface: IPv4Interface) -> Message:
    fixed = struct.pack("=BBBBI", socket.AF_INET, interface.network.prefixlen, 0, 0, adapter.index)
    own = interface.ip.packed
    found = [(AddressAttribute.LOCAL, own), (AddressAttribute.ADDRESS, own)]
    # A subnet of two has no broadcast address: both are hosts (RFC 3021 §2.2).
    if kind is MessageKind.NEW_ADDRESS and interface.network.prefixlen < 31:
        found.append((AddressAttribute.BROADCAST, interface.network.broadcast_address.packed))
    return Message(kind, fixed, tuple(found))


def _put(message: Message, adapter: Adapter, trouble: str, again: bool = False) -> bool:
    with Netlink() as netlink:
        try:
            netlink.put(message, again)
        except OSError as error:
            if error.errno in _DONE_ALREADY:
                return False
            reason = f"the kernel says: {error.strerror}"
            if error.errno in (errno.EPERM, errno.EACCES):
                reason = "it needs root or CAP_NET_ADMIN: run this with sudo"
            raise NotPossibleHere(f"{adapter.name}: {trouble}: {reason}") from None
    return True


def save(adapter: Adapter, but: IPv4Interface | None = None) -> tuple[str, ...]:
    """An adapter's addresses, and the routes somebody made through it, as ``put_back`` takes them.

    ``but`` is an address that stays as it is.

    One line of text each, in the kernel's order: to be kept, not to be read.
    """
    with Netlink() as netlink:
        addresses = [m for m in address_messages(netlink) if index_of(m) == adapter.index]
        routes = [m for m in routes_of_all_tables(netlink) if uses(m, adapter.index)]
    addresses = [message for message in addresses if interface_of(message) != but]
    messages = [
        *(_only(message, _settable(message)) for message in addresses),
        # The kernel makes its own routes itself, with the address they belong to.
        *(_only(m, _ROUTE_SETTABLE) for m in routes if m.fixed[5] != BY_KERNEL),
    ]
    return tuple(
        f"{message.kind.value} {message.fixed.hex()} {pack(message.attributes).hex()}"
        for message in messages
    )


def _settable(address: Message) -> Set[int]:
    lifetime = lifetime_of(address)
    return _ADDRESS_SETTABLE if lifetime is None else _ADDRESS_SETTABLE | {AddressAttribute.CACHE}


def _only(message: Message, numbers: Set[int]) -> Message:
    kept = tuple(pair for pair in message.attributes if pair[0] in numbers)
    return Message(message.kind, message.fixed, kept)


def _saved(line: str) -> Message | None:
    """The message that a saved line has; None when it is damaged."""
    try:
        kind, fixed, packed = line.split(" ")
        return Message(
            MessageKind(int(kind)), bytes.fromhex(fixed), attributes(bytes.fromhex(packed))
        )
    except (ValueError, struct.error):
        return None


def described(saved: Iterable[str]) -> frozenset[str]:
    """Saved addresses and routes as people write them."""
    return frozenset(_named(message) for line in saved if (message := _saved(line)) is not None)


def take_off(adapter: Adapter, saved: Iterable[str]) -> None:
    """Remove the saved addresses; the kernel removes the routes that need them."""
    for message in filter(None, map(_saved, saved)):
        if message.kind is MessageKind.NEW_ADDRESS:
            remove_address(adapter, interface_of(message))


def put_back(adapter: Adapter, saved: Sequence[str], elapsed: float) -> PutBack:
    """Have saved addresses and routes in force again, in their order, as far as they go.

    ``elapsed`` is how many seconds ago they were saved: addresses whose lifetime has ended since
    then are not put back, nor are routes that only they had reached. Addresses that others added
    meanwhile stay. Raises NotPossibleHere without privilege.
    """
    left = [
        NotPutBack(line, f"what was saved as {line[:40]!r}", "it is damaged", damaged=True)
        for line in saved
        if _saved(line) is None
    ]
    messages = {line: message for line in saved if (message := _saved(line)) is not None}
    addresses = [m for m in messages.values() if m.kind is MessageKind.NEW_ADDRESS]
    ended = [m for m in addresses if (lifetime_of(m) or elapsed + 1) <= elapsed]
    networks = [interface_of(message).network for message in ended]
    wanted = [interface_of(m) for m in addresses if m not in ended]
    with Netlink() as netlink:
        present = [
            interface_of(m) for m in address_messages(netlink) if index_of(m) == adapter.index
        ]
    if present != wanted and set(present) < set(wanted):
        # The kernel lists addresses in the order they were added: start over to have it back.
        for interface in present:
            remove_address(adapter, interface)
    # A route that is there already is left alone: it may have stayed when its gateway's subnet was
    # taken off, and could not be added now.
    there = {*save(adapter)}
    for line, message in messages.items():
        gateway = _gateway_of(message)
        reached = any(gateway in own.network for own in wanted) if gateway else True
        if line in there or message in ended:
            continue
        if not reached and any(gateway in network for network in networks):
            continue
        reason = _refusal(_renewed(message, adapter, elapsed))
        if reason is not None:
            left.append(NotPutBack(line, _named(message), reason))
    leased = tuple(interface_of(m) for m in addresses if lifetime_of(m) is not None)
    return PutBack(tuple(interface_of(message) for message in ended), tuple(left), leased)


def _refusal(message: Message) -> str | None:
    """Why the kernel does not take a message, or None. Raises NotPossibleHere without privilege."""
    with Netlink() as netlink:
        try:
            netlink.put(message)
        except OSError as error:
            if error.errno in (errno.EPERM, errno.EACCES):
                raise NotPossibleHere(
                    "changing addresses needs root or CAP_NET_ADMIN: run this with sudo"
                ) from None
            return None if error.errno == errno.EEXIST else str(error.strerror)
    return None


def _gateway_of(message: Message) -> IPv4Address | None:
    gateway = message.get(RouteAttribute.GATEWAY) if message.kind is MessageKind.NEW_ROUTE else None
    return IPv4Address(gateway) if gateway is not None and len(gateway) == 4 else None


def _named(message: Message) -> str:
    """An address or a route as people write it."""
    if message.kind is MessageKind.NEW_ADDRESS:
        return str(interface_of(message))
    to = message.get(RouteAttribute.DESTINATION)
    where = f"{IPv4Address(to)}/{message.fixed[1]}" if to is not None else "everywhere"
    gateway = _gateway_of(message)
    return f"the route to {where}" + (f" via {gateway}" if gateway else "")


def _renewed(message: Message, adapter: Adapter, elapsed: float) -> Message:
    """A saved message as it has to be now: the index the adapter has, the lifetime that is left."""
    out = struct.pack("=I", adapter.index)
    if message.kind is not MessageKind.NEW_ADDRESS:
        found = tuple(
            (n, out if n == RouteAttribute.OUT else data) for n, data in message.attributes
        )
        return Message(message.kind, message.fixed, found)
    changed = []
    for number, data in message.attributes:
        if number == AddressAttribute.CACHE:
            preferred, valid, *rest = struct.unpack("=IIII", data[:16])
            left = (max(int(s - elapsed), 0) if s != FOR_GOOD else s for s in (preferred, valid))
            data = struct.pack("=IIII", *left, *rest)
        changed.append((number, data))
    return Message(message.kind, message.fixed[:4] + out, tuple(changed))
