"""Borrowing an address: what lives on the borrowed adapter, without a plant around it."""

import asyncio
import errno
import os
import socket
from ipaddress import IPv4Interface

import pytest

from portcall.core.address import Mac
from portcall.core.wire import arp
from portcall.core.wire.ethernet import EtherType
from portcall.host.linux import borrowed_adapter
from portcall.host.linux.namespaces import NetworkNamespace

MAC = Mac(b"\x02\x1a\x40\x7c\0\6")
OWN = IPv4Interface("203.0.113.254/24")

pytestmark = pytest.mark.skipif(os.geteuid() != 0, reason="a network of its own takes root")


@pytest.mark.parametrize("kind", [borrowed_adapter.Pair, borrowed_adapter.Tap])
def test_either_adapter_asks_with_the_mac_and_the_address_that_were_borrowed(kind, monkeypatch):
    monkeypatch.setattr(borrowed_adapter, "Pair", kind)
    namespace = NetworkNamespace()
    try:
        adapter = namespace.call(lambda: borrowed_adapter.make(MAC, OWN, None))
    except FileNotFoundError:
        pytest.skip("this computer has no /dev/net/tun")
    sock = namespace.call(lambda: socket.socket(socket.AF_INET, socket.SOCK_DGRAM))
    sock.sendto(b"who is there", ("203.0.113.47", 9))
    frame = b""
    while frame[12:14] != EtherType.ARP.octets:
        # The kernel has words of its own on a new adapter, where IPv6 is not off.
        asyncio.run(_until_readable(adapter))
        frame = adapter.read()
    asked = arp.parse(frame[14:])
    assert (
        frame[6:12],
        asked.sender_mac,
        str(asked.sender_address),
        str(asked.target_address),
    ) == (
        MAC,
        MAC,
        "203.0.113.254",
        "203.0.113.47",
    )
    sock.close()
    adapter.close()
    namespace.close()


def test_without_the_tunnel_device_nothing_is_missed(monkeypatch):
    monkeypatch.setattr(borrowed_adapter, "_TUN", "/nonexistent/tun")
    namespace = NetworkNamespace()
    adapter = namespace.call(lambda: borrowed_adapter.make(MAC, OWN, None))
    assert isinstance(adapter, borrowed_adapter.Pair)
    adapter.close()
    namespace.close()


def test_where_neither_can_be_had_it_is_said_why_the_usual_one_cannot(monkeypatch):
    def refuse(*_):
        raise OSError(errno.EOPNOTSUPP, os.strerror(errno.EOPNOTSUPP))

    monkeypatch.setattr(borrowed_adapter.Netlink, "put", refuse)
    monkeypatch.setattr(borrowed_adapter, "_TUN", "/nonexistent/tun")
    namespace = NetworkNamespace()
    with pytest.raises(OSError, match="not supported"):
        namespace.call(lambda: borrowed_adapter.make(MAC, OWN, None))
    namespace.close()


async def _until_readable(adapter):
    readable = asyncio.Event()
    asyncio.get_running_loop().add_reader(adapter.fileno(), readable.set)
    async with asyncio.timeout(10):
        await readable.wait()
    asyncio.get_running_loop().remove_reader(adapter.fileno())
