"""The adapter that a borrowed address lives on, in a network namespace of this process alone.

It is one end of a pair of virtual adapters (veth(4)); what the kernel sends by it is read from the
other end by a packet socket, and what is written there arrives at it. Where the kernel has no such
pairs, a tap adapter (tun(4)) does the same; that one needs the device ``/dev/net/tun``, which an
ordinary user may not open on many computers.
"""

from __future__ import annotations

import ctypes
import errno
import fcntl
import os
import socket
import struct
from collections.abc import Callable
from ipaddress import IPv4Interface
from typing import Protocol

from portcall.core.address import Mac
from portcall.host.linux.packet_socket import ETH_P_ALL, PACKET_IGNORE_OUTGOING, SOL_PACKET
from portcall.host.linux.rtnetlink import LinkAttribute, Message, MessageKind, Netlink, pack
from portcall.host.vantage import Only

ADAPTER = "leg0"
_FAR_END = "leg1"
_TUN = "/dev/net/tun"
_TUNSETIFF = 0x400454CA
_TAP, _NO_HEADER = 0x0002, 0x1000
_SIOCSIFFLAGS, _SIOCSIFADDR, _SIOCSIFNETMASK = 0x8914, 0x8916, 0x891C
_SIOCSIFHWADDR, _SIOCETHTOOL, _SIOCSARP = 0x8924, 0x8946, 0x8955
_COMPLETE, _PERMANENT = 0x02, 0x04
"""Flags of a neighbour that is never asked for (arp(7))."""
_UP, _NO_ARP = 0x1, 0x80
_ETHERNET = 1
_LONGEST_FRAME = 2048
_INFO_KIND, _INFO_DATA, _PEER = 1, 2, 1
"""IFLA_INFO_KIND, IFLA_INFO_DATA and VETH_INFO_PEER (linux/if_link.h, linux/veth.h)."""
_SET_CHECKSUM_OFFLOAD = 0x17
"""ETHTOOL_STXCSUM (linux/ethtool.h)."""


class BorrowedAdapter(Protocol):
    """The wire's side of the adapter."""

    def fileno(self) -> int:
        """Readable when the kernel has sent a frame."""
        ...

    def read(self) -> bytes:
        """A frame that the kernel sent. Raises OSError when there is none."""
        ...

    def write(self, frame: bytes) -> None:
        """Have a frame arrive at the adapter. Raises OSError."""
        ...

    def close(self) -> None:
        """Take the adapter away."""
        ...


def make(mac: Mac, interface: IPv4Interface, only: Only | None) -> BorrowedAdapter:
    """The adapter, switched on, in the calling thread's network namespace. Raises OSError.

    It has this MAC and this address. The device that ``only`` names is never asked for.
    """
    adapter = _first_that_can_be_had(Pair, Tap)
    try:
        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as sock:

            def tell(request: int, value: bytes) -> None:
                fcntl.ioctl(sock, request, _for_adapter(ADAPTER, value))

            tell(_SIOCSIFHWADDR, struct.pack("H", _ETHERNET) + mac.octets)
            tell(_SIOCSIFFLAGS, struct.pack("H", _UP))
            tell(_SIOCSIFADDR, _address(interface.ip.packed))
            tell(_SIOCSIFNETMASK, _address(interface.netmask.packed))
            if only is not None:
                fcntl.ioctl(sock, _SIOCSARP, _neighbour(only))
    except BaseException:
        adapter.close()
        raise
    return adapter


def _first_that_can_be_had(*kinds: Callable[[], BorrowedAdapter]) -> BorrowedAdapter:
    """Raises the OSError of the first kind, which is the usual one, when none can be had."""
    first: OSError | None = None
    for kind in kinds:
        try:
            return kind()
        except OSError as error:
            first = first or error
    raise first or OSError(errno.ENODEV, os.strerror(errno.ENODEV))


class Pair:
    """Two virtual adapters with a cable between them, and a packet socket at the far one."""

    def __init__(self) -> None:
        with Netlink() as netlink:
            netlink.put(_PAIR)
        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as sock:
            _leave_no_checksum_open(sock)
            # The kernel hears what arrives at the far end, too: it shall answer no ARP there.
            flags = struct.pack("H", _UP | _NO_ARP)
            fcntl.ioctl(sock, _SIOCSIFFLAGS, _for_adapter(_FAR_END, flags))
        self._socket = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, 0)
        try:
            self._socket.setblocking(False)
            self._socket.setsockopt(SOL_PACKET, PACKET_IGNORE_OUTGOING, 1)
            self._socket.bind((_FAR_END, ETH_P_ALL))
        except OSError:
            self._socket.close()
            raise

    def fileno(self) -> int:
        """Readable when the kernel has sent a frame."""
        return self._socket.fileno()

    def read(self) -> bytes:
        """A frame that the kernel sent. Raises OSError when there is none."""
        return self._socket.recv(_LONGEST_FRAME)

    def write(self, frame: bytes) -> None:
        """Have a frame arrive at the adapter. Raises OSError."""
        self._socket.send(frame)

    def close(self) -> None:
        """Let go of it; it vanishes with its namespace."""
        self._socket.close()


class Tap:
    """A tap adapter. Needs ``/dev/net/tun``."""

    def __init__(self) -> None:
        self._descriptor = os.open(_TUN, os.O_RDWR | os.O_NONBLOCK | os.O_CLOEXEC)
        try:
            kind = struct.pack("H", _TAP | _NO_HEADER)
            fcntl.ioctl(self._descriptor, _TUNSETIFF, _for_adapter(ADAPTER, kind))
        except BaseException:
            self.close()
            raise

    def fileno(self) -> int:
        """Readable when the kernel has sent a frame."""
        return self._descriptor

    def read(self) -> bytes:
        """A frame that the kernel sent. Raises OSError when there is none."""
        return os.read(self._descriptor, _LONGEST_FRAME)

    def write(self, frame: bytes) -> None:
        """Have a frame arrive at the adapter. Raises OSError."""
        os.write(self._descriptor, frame)

    def close(self) -> None:
        """Take the adapter away."""
        os.close(self._descriptor)


_ANY_LINK = bytes(16)
"""struct ifinfomsg of a link that the kernel numbers itself."""

_PAIR = Message(
    MessageKind.NEW_LINK,
    _ANY_LINK,
    (
        (LinkAttribute.NAME, ADAPTER.encode() + b"\0"),
        (
            LinkAttribute.INFO,
            pack(
                (
                    (_INFO_KIND, b"veth\0"),
                    (
                        _INFO_DATA,
                        pack(
                            (
                                (
                                    _PEER,
                                    _ANY_LINK
                                    + pack(((LinkAttribute.NAME, _FAR_END.encode() + b"\0"),)),
                                ),
                            )
                        ),
                    ),
                )
            ),
        ),
    ),
)


def _leave_no_checksum_open(sock: socket.socket) -> None:
    """Have the kernel close checksums, and cut segments, before a frame leaves by the adapter.

    It would leave both to the adapter's hardware, which is not there.
    """
    value = ctypes.create_string_buffer(struct.pack("=II", _SET_CHECKSUM_OFFLOAD, 0))
    request = _for_adapter(ADAPTER, struct.pack("P", ctypes.addressof(value)))
    fcntl.ioctl(sock, _SIOCETHTOOL, request)


def _for_adapter(name: str, value: bytes) -> bytes:
    """struct ifreq (netdevice(7))."""
    return name.encode().ljust(16, b"\0") + value.ljust(24, b"\0")


def _neighbour(only: Only) -> bytes:
    """struct arpreq (arp(7)): an address, its MAC, flags, a mask that is not used, an adapter."""
    mac = struct.pack("H", _ETHERNET) + only.mac.octets
    return struct.pack(
        "16s16si16s16s",
        _address(only.address.packed),
        mac,
        _COMPLETE | _PERMANENT,
        b"",
        ADAPTER.encode(),
    )


def _address(packed: bytes) -> bytes:
    return struct.pack("HH", socket.AF_INET, 0) + packed
