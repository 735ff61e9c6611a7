"""A second leg on the wire: an address borrowed in a subnet that the workstation is not in.

The address lives in a network namespace of this process alone, on a tap adapter (tun(4)) that bears
the adapter's own MAC; frames go between that and the adapter's link. So the operating system's own
UDP and TCP can ask devices of a foreign subnet, and the workstation stays as it is: no address is
added to it, no route, no neighbour.

Only frames of the borrowed address pass, either way. A leg may stand before one device alone: what
goes to the address that this device shares with another is sent to its MAC, and only what comes
from that MAC is let in. Needs root or CAP_SYS_ADMIN, CAP_NET_ADMIN.
"""

from __future__ import annotations

import asyncio
import fcntl
import os
import socket
import struct
from contextlib import suppress
from ipaddress import IPv4Address, IPv4Interface
from pathlib import Path
from typing import NamedTuple

from portcall.core.address import Mac
from portcall.core.find.borrowed import concerns
from portcall.core.talk.conversation import Actions, Conversation, Frame, Report
from portcall.core.trouble import NotPossibleHere
from portcall.host.link import Link
from portcall.host.namespaces import NetworkNamespace, quiet_kernel
from portcall.host.runner import Runner
from portcall.host.vantage import Vantage

ADAPTER = "leg0"
_TUNSETIFF = 0x400454CA
_TAP, _NO_HEADER = 0x0002, 0x1000
_SIOCSIFADDR, _SIOCSIFNETMASK, _SIOCSIFHWADDR = 0x8916, 0x891C, 0x8924
_SIOCSIFFLAGS = 0x8914
_SIOCSARP = 0x8955
_COMPLETE, _PERMANENT = 0x02, 0x04
"""Flags of a neighbour that is never asked for (arp(7))."""
_UP = 0x1
_ETHERNET = 1
_LONGEST_FRAME = 2048
_SENDER = slice(6, 12)
_MOST_AT_ONCE = 64


class Only(NamedTuple):
    """One device that is meant, of several at an address."""

    address: IPv4Address
    mac: Mac


class Leg:
    """Stands on an adapter for as long as it is not closed. Raises NotPossibleHere.

    With ``only`` it stands before that one device.
    """

    def __init__(
        self, runner: Runner, adapter: str, interface: IPv4Interface, only: Only | None = None
    ) -> None:
        _refuse_forwarding(adapter)
        self._link = Link(adapter)
        self._runner = runner
        self._interface = interface
        self._only = only
        self._mac = self._link.mac
        try:
            self._namespace = NetworkNamespace()
            self._tap = self._namespace.call(self._make)
        except OSError as error:
            self._link.close()
            raise NotPossibleHere(
                f"asking in a subnet this computer is not in needs root "
                f"({error.strerror}): run this with sudo"
            ) from None
        self._loop = asyncio.get_running_loop()
        self._loop.add_reader(self._tap, self._outward)
        runner.start(_Inward(interface, only.mac if only else None), self._link, self._write)

    @property
    def vantage(self) -> Vantage:
        """Where to ask from."""
        return Vantage(ADAPTER, self._interface, self._namespace.call)

    def close(self) -> None:
        """Take the leg off the wire; its network goes with it."""
        self._loop.remove_reader(self._tap)
        self._runner.drop(self._link)
        self._link.close()
        os.close(self._tap)
        self._namespace.close()

    def _make(self) -> int:
        quiet_kernel()
        tap = os.open("/dev/net/tun", os.O_RDWR | os.O_NONBLOCK | os.O_CLOEXEC)
        try:
            fcntl.ioctl(tap, _TUNSETIFF, _request(struct.pack("H", _TAP | _NO_HEADER)))
            with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as sock:
                mac = struct.pack("H", _ETHERNET) + self._mac.octets
                fcntl.ioctl(sock, _SIOCSIFHWADDR, _request(mac))
                fcntl.ioctl(sock, _SIOCSIFFLAGS, _request(struct.pack("H", _UP)))
                own = self._interface
                fcntl.ioctl(sock, _SIOCSIFADDR, _request(_address(own.ip.packed)))
                fcntl.ioctl(sock, _SIOCSIFNETMASK, _request(_address(own.netmask.packed)))
                if self._only is not None:
                    fcntl.ioctl(sock, _SIOCSARP, _neighbour(self._only))
        except BaseException:
            os.close(tap)
            raise
        return tap

    def _outward(self) -> None:
        for _ in range(_MOST_AT_ONCE):
            try:
                data = os.read(self._tap, _LONGEST_FRAME)
            except OSError:
                return
            if concerns(data, self._interface, outward=True):
                # A link that cannot take a frame now loses it, as a cable does.
                with suppress(OSError):
                    self._link.send(Frame(data))

    def _write(self, data: bytes) -> None:
        with suppress(OSError):
            os.write(self._tap, data)


class _Inward(Conversation[Frame, bytes]):
    """Reports the frames that are for the borrowed address; never over."""

    def __init__(self, interface: IPv4Interface, only: Mac | None) -> None:
        self._interface = interface
        self._only = only

    def heard(self, packet: Frame, now: float) -> Actions[Frame, bytes]:
        """Pass on what concerns the address."""
        if self._only is not None and packet.data[_SENDER] != self._only:
            return
        if concerns(packet.data, self._interface, outward=False):
            yield Report(packet.data)


def _request(value: bytes) -> bytes:
    """struct ifreq (netdevice(7))."""
    return ADAPTER.encode().ljust(16, b"\0") + value.ljust(24, b"\0")


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


def _refuse_forwarding(adapter: str) -> None:
    """A computer that forwards would pass on what comes for an address that is not its own."""
    setting = Path("/proc/sys/net/ipv4/conf") / adapter / "forwarding"
    with suppress(OSError):
        if setting.read_text().strip() == "1":
            raise NotPossibleHere(
                f"this computer forwards packets that come in on {adapter}, and would send "
                "the answers elsewhere; switch it off meanwhile: "
                f"sysctl net.ipv4.conf.{adapter}.forwarding=0"
            )
