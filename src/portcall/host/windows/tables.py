"""The tables that Windows keeps of its network: iphlpapi, as netioapi.h and iptypes.h declare it.

Each table is read whole, and given back to the system at once; values are plain.
"""

from __future__ import annotations

import ctypes
import struct
import sys
from collections.abc import Iterator
from ctypes import wintypes
from dataclasses import dataclass
from ipaddress import IPv4Address, IPv4Interface, IPv4Network
from typing import Any, TypeVar

assert sys.platform == "win32"

T = TypeVar("T", bound=ctypes.Structure)

_iphlpapi = ctypes.WinDLL("iphlpapi")

_AF_INET = 2
_WITH_GATEWAYS = 0x80
_TOO_SMALL, _NO_DATA, _NOT_FOUND = 111, 232, 1168
_FIRST_ROOM = 1 << 15
_MOST_ROOM = 1 << 22
_DHCP = 0x4
"""A flag of an adapter: it asks for its addresses."""

_INTERFACE_ROW, _ROW_INDEX, _ROW_STATE, _ROW_ERRORS = 1352, 8, 1152, 1240
"""The size of MIB_IF_ROW2, and where in it are the index, the state and the received errors."""

_PLUG = 0x5
"""Flags of MIB_IF_ROW2: it is of hardware, and has a socket for a plug."""

_FOR_GOOD = 0xFFFFFFFF
"""A lifetime that does not end."""


class _SocketAddress(ctypes.Structure):
    """SOCKET_ADDRESS."""

    _fields_ = (("place", ctypes.c_void_p), ("length", ctypes.c_int))


class _Address(ctypes.Structure):
    """IP_ADAPTER_UNICAST_ADDRESS_LH."""


_Address._fields_ = (
    ("length", wintypes.ULONG),
    ("flags", wintypes.DWORD),
    ("next", ctypes.POINTER(_Address)),
    ("address", _SocketAddress),
    ("prefix_origin", ctypes.c_int),
    ("suffix_origin", ctypes.c_int),
    ("state", ctypes.c_int),
    ("valid", wintypes.ULONG),
    ("preferred", wintypes.ULONG),
    ("lease", wintypes.ULONG),
    ("prefix", ctypes.c_uint8),
)


class _NameServer(ctypes.Structure):
    """IP_ADAPTER_DNS_SERVER_ADDRESS_XP."""


_NameServer._fields_ = (
    ("length", wintypes.ULONG),
    ("reserved", wintypes.DWORD),
    ("next", ctypes.POINTER(_NameServer)),
    ("address", _SocketAddress),
)


class _Adapter(ctypes.Structure):
    """IP_ADAPTER_ADDRESSES_LH, as far as it is read."""


_Adapter._fields_ = (
    ("length", wintypes.ULONG),
    ("index", wintypes.DWORD),
    ("next", ctypes.POINTER(_Adapter)),
    ("guid", ctypes.c_char_p),
    ("first_unicast", ctypes.POINTER(_Address)),
    ("first_anycast", ctypes.c_void_p),
    ("first_multicast", ctypes.c_void_p),
    ("first_name_server", ctypes.POINTER(_NameServer)),
    ("suffix", ctypes.c_wchar_p),
    ("description", ctypes.c_wchar_p),
    ("name", ctypes.c_wchar_p),
    ("mac", ctypes.c_uint8 * 8),
    ("mac_length", wintypes.ULONG),
    ("flags", wintypes.ULONG),
    ("mtu", wintypes.ULONG),
    ("type", wintypes.DWORD),
    ("status", ctypes.c_int),
    ("index_v6", wintypes.DWORD),
    ("zones", wintypes.ULONG * 16),
    ("first_prefix", ctypes.c_void_p),
    ("sends", ctypes.c_uint64),
    ("receives", ctypes.c_uint64),
)


class _Inet(ctypes.Structure):
    """SOCKADDR_INET; of IPv6 only its room."""

    _fields_ = (
        ("family", ctypes.c_uint16),
        ("port", ctypes.c_uint16),
        ("address", ctypes.c_uint8 * 4),
        ("rest", ctypes.c_uint32 * 5),
    )


class _Route(ctypes.Structure):
    """MIB_IPFORWARD_ROW2."""

    _fields_ = (
        ("luid", ctypes.c_uint64),
        ("index", ctypes.c_uint32),
        ("destination", _Inet),
        ("prefix", ctypes.c_uint8),
        ("next_hop", _Inet),
        ("site_prefix", ctypes.c_uint8),
        ("valid", ctypes.c_uint32),
        ("preferred", ctypes.c_uint32),
        ("metric", ctypes.c_uint32),
        ("protocol", ctypes.c_int),
        ("flags", ctypes.c_uint8 * 4),
        ("age", ctypes.c_uint32),
        ("origin", ctypes.c_int),
    )


class _Neighbour(ctypes.Structure):
    """MIB_IPNET_ROW2."""

    _fields_ = (
        ("address", _Inet),
        ("index", ctypes.c_uint32),
        ("luid", ctypes.c_uint64),
        ("mac", ctypes.c_uint8 * 32),
        ("mac_length", ctypes.c_uint32),
        ("state", ctypes.c_int),
        ("flags", ctypes.c_uint8),
        ("reachable", ctypes.c_uint32),
    )


class _AddressRow(ctypes.Structure):
    """MIB_UNICASTIPADDRESS_ROW."""

    _fields_ = (
        ("address", _Inet),
        ("luid", ctypes.c_uint64),
        ("index", ctypes.c_uint32),
        ("prefix_origin", ctypes.c_int),
        ("suffix_origin", ctypes.c_int),
        ("valid", ctypes.c_uint32),
        ("preferred", ctypes.c_uint32),
        ("prefix", ctypes.c_uint8),
        ("skip_as_source", ctypes.c_uint8),
        ("state", ctypes.c_int),
        ("scope", ctypes.c_uint32),
        ("made", ctypes.c_int64),
    )


@dataclass(frozen=True, slots=True)
class AddressSeen:
    """An IPv4 address of an adapter; ``origin`` and ``state`` as nldef.h numbers them,
    ``seconds_left`` None where it stays."""

    interface: IPv4Interface
    origin: int
    seconds_left: int | None
    state: int


@dataclass(frozen=True, slots=True)
class AdapterSeen:
    """An adapter; ``kind`` as ipifcons.h numbers it, ``bits`` a second that it sends."""

    index: int
    guid: str
    name: str
    description: str
    mac: bytes
    mtu: int
    kind: int
    status: int
    bits: int | None
    asks: bool
    addresses: tuple[AddressSeen, ...]
    name_servers: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class RouteSeen:
    """A way by an adapter; ``protocol`` as nldef.h numbers it."""

    index: int
    destination: IPv4Network
    gateway: IPv4Address | None
    metric: int
    protocol: int


@dataclass(frozen=True, slots=True)
class NeighbourSeen:
    """Who the system found for an address; ``state`` as nldef.h numbers it."""

    index: int
    address: IPv4Address
    mac: bytes
    state: int


def adapters() -> tuple[AdapterSeen, ...]:
    """Every adapter, with its IPv4 addresses (GetAdaptersAddresses). Raises OSError."""
    room = _FIRST_ROOM
    while True:
        buffer = ctypes.create_string_buffer(room)
        size = wintypes.ULONG(room)
        code = _iphlpapi.GetAdaptersAddresses(
            _AF_INET, _WITH_GATEWAYS, None, buffer, ctypes.byref(size)
        )
        if code != _TOO_SMALL or room >= _MOST_ROOM:
            break
        room = max(size.value, 2 * room)
    if code == _NO_DATA:
        return ()
    if code:
        raise ctypes.WinError(code)
    first = ctypes.cast(buffer, ctypes.POINTER(_Adapter))
    return tuple(_adapter(each) for each in _chain(first))


def _chain(pointer: Any) -> Iterator[Any]:
    """The structures of a linked list."""
    while pointer:
        yield pointer.contents
        pointer = pointer.contents.next


def _adapter(each: _Adapter) -> AdapterSeen:
    speed = each.sends
    return AdapterSeen(
        each.index,
        (each.guid or b"").decode("ascii", "replace"),
        each.name or str(each.index),
        each.description or "",
        bytes(each.mac[: min(each.mac_length, 8)]),
        each.mtu,
        each.type,
        each.status,
        None if speed in (0, (1 << 64) - 1) else speed,
        bool(each.flags & _DHCP),
        tuple(_addresses(each)),
        tuple(str(a) for s in _chain(each.first_name_server) if (a := _ipv4(s.address))),
    )


def _addresses(each: _Adapter) -> Iterator[AddressSeen]:
    for one in _chain(each.first_unicast):
        address = _ipv4(one.address)
        if address is not None and one.prefix <= 32:
            interface = IPv4Interface((address, one.prefix))
            yield AddressSeen(interface, one.prefix_origin, _seconds(one.valid), one.state)


def _ipv4(address: _SocketAddress) -> IPv4Address | None:
    if not address.place or address.length < 8:
        return None
    told = ctypes.cast(address.place, ctypes.POINTER(_Inet)).contents
    return IPv4Address(bytes(told.address)) if told.family == _AF_INET else None


@dataclass(frozen=True, slots=True)
class LinkSeen:
    """The state of an adapter's plug: ``connected`` as ifdef.h numbers it, ``errors`` of what it
    received."""

    is_hardware: bool
    status: int
    connected: int
    errors: int


def link(index: int) -> LinkSeen | None:
    """The plug of an adapter (GetIfEntry2); None where there is none of that number."""
    row = ctypes.create_string_buffer(_INTERFACE_ROW)
    struct.pack_into("<I", row, _ROW_INDEX, index)
    if _iphlpapi.GetIfEntry2(row):
        return None
    flags, status, _, connected = struct.unpack_from("<B3xIII", row, _ROW_STATE)
    (errors,) = struct.unpack_from("<Q", row, _ROW_ERRORS)
    return LinkSeen(flags & _PLUG == _PLUG, status, connected, errors)


def routes() -> tuple[RouteSeen, ...]:
    """Every IPv4 route (GetIpForwardTable2). Raises OSError."""
    rows = _rows("GetIpForwardTable2", _Route)
    return tuple(_route_seen(each) for each in rows if each.prefix <= 32)


def _route_seen(row: _Route) -> RouteSeen:
    return RouteSeen(
        row.index,
        IPv4Network((bytes(row.destination.address), min(row.prefix, 32)), strict=False),
        IPv4Address(bytes(row.next_hop.address)) if any(row.next_hop.address) else None,
        row.metric,
        row.protocol,
    )


def _address_seen(row: _AddressRow) -> AddressSeen:
    interface = IPv4Interface((bytes(row.address.address), min(row.prefix, 32)))
    return AddressSeen(interface, row.prefix_origin, _seconds(row.valid), row.state)


def _seconds(lifetime: int) -> int | None:
    return None if lifetime == _FOR_GOOD else lifetime


def neighbours() -> tuple[NeighbourSeen, ...]:
    """The table of who was found for an IPv4 address (GetIpNetTable2). Raises OSError."""
    return tuple(
        NeighbourSeen(
            each.index,
            IPv4Address(bytes(each.address.address)),
            bytes(each.mac[: min(each.mac_length, 32)]),
            each.state,
        )
        for each in _rows("GetIpNetTable2", _Neighbour)
    )


def address_rows(index: int) -> list[bytes]:
    """An adapter's IPv4 addresses, as ``create_row`` takes them (GetUnicastIpAddressTable)."""
    rows = _rows("GetUnicastIpAddressTable", _AddressRow)
    return [bytes(each) for each in rows if each.index == index and each.prefix <= 32]


def route_rows(index: int) -> list[bytes]:
    """The IPv4 routes by an adapter, as ``create_row`` takes them (GetIpForwardTable2)."""
    rows = _rows("GetIpForwardTable2", _Route)
    return [bytes(each) for each in rows if each.index == index and each.prefix <= 32]


def read_row(row: bytes) -> AddressSeen | RouteSeen | None:
    """An address's row or a route's, by its size; None for one that is neither."""
    if len(row) == ctypes.sizeof(_AddressRow):
        return _address_seen(_AddressRow.from_buffer_copy(row))
    if len(row) == ctypes.sizeof(_Route):
        return _route_seen(_Route.from_buffer_copy(row))
    return None


def create_row(row: bytes, index: int, elapsed: float) -> int:
    """Have an adapter have what such a row says, ``elapsed`` seconds after it was read; the
    system's code (CreateUnicastIpAddressEntry, CreateIpForwardEntry2)."""
    made: _AddressRow | _Route
    if len(row) == ctypes.sizeof(_AddressRow):
        made, function = _AddressRow.from_buffer_copy(row), "CreateUnicastIpAddressEntry"
        # What the system says of it, and does not take.
        made.state = made.scope = made.made = 0
    else:
        made, function = _Route.from_buffer_copy(row), "CreateIpForwardEntry2"
        made.age = made.origin = 0
    # An adapter that was out has other numbers; of the two, the one that is not 0 counts.
    made.luid, made.index = 0, index
    made.valid, made.preferred = (
        each if each == _FOR_GOOD else max(0, int(each - elapsed))
        for each in (made.valid, made.preferred)
    )
    code: int = getattr(_iphlpapi, function)(ctypes.byref(made))
    return code


def resolve(index: int, address: IPv4Address) -> bytes | None:
    """Have the system ask anew who has an address of an adapter's subnet, and wait; the MAC, None
    where nobody answers (ResolveIpNetEntry2)."""
    row = _Neighbour()
    row.index = index
    row.address.family = _AF_INET
    row.address.address[:] = address.packed
    if _iphlpapi.ResolveIpNetEntry2(ctypes.byref(row), None):
        return None
    mac = bytes(row.mac[: min(row.mac_length, 32)])
    return mac if len(mac) == 6 and any(mac) else None


def create_address(index: int, interface: IPv4Interface, lifetime: int | None) -> int:
    """Have an adapter have an address, until the computer restarts; the system's code, 0 for done
    (CreateUnicastIpAddressEntry)."""
    row = _address_row(index, interface)
    row.valid = row.preferred = _FOR_GOOD if lifetime is None else lifetime
    code: int = _iphlpapi.CreateUnicastIpAddressEntry(ctypes.byref(row))
    return code


def delete_address(index: int, interface: IPv4Interface) -> int:
    """Take an address off an adapter; the system's code (DeleteUnicastIpAddressEntry)."""
    row = _address_row(index, interface)
    code: int = _iphlpapi.DeleteUnicastIpAddressEntry(ctypes.byref(row))
    return code


def _address_row(index: int, interface: IPv4Interface) -> _AddressRow:
    row = _AddressRow()
    _iphlpapi.InitializeUnicastIpAddressEntry(ctypes.byref(row))
    row.address.family = _AF_INET
    row.address.address[:] = interface.ip.packed
    row.index, row.prefix = index, interface.network.prefixlen
    return row


def _rows(function: str, row: type[T]) -> list[T]:
    """The rows of a table, copied, and the table given back (FreeMibTable)."""
    table = ctypes.c_void_p()
    code = getattr(_iphlpapi, function)(_AF_INET, ctypes.byref(table))
    if code in (_NOT_FOUND, _NO_DATA):
        return []
    if code:
        raise ctypes.WinError(code)
    assert table.value is not None
    try:
        count = ctypes.cast(table, ctypes.POINTER(ctypes.c_uint32)).contents.value
        # The rows begin where a number of eight octets may stand.
        rows = (row * count).from_address(table.value + ctypes.alignment(ctypes.c_uint64))
        return [row.from_buffer_copy(each) for each in rows]
    finally:
        _iphlpapi.FreeMibTable(table)
