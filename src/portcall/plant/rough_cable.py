"""A cable that loses, delays, or lets no large frames through.

It stands between a device's cable and its switch and passes frames on from one to the other. The
kernel's own means for this are a module that many systems do not have.
"""

from __future__ import annotations

import asyncio
import random
import socket
from contextlib import suppress
from dataclasses import dataclass

from portcall.host.linux.packet_socket import (
    ETH_P_ALL,
    PACKET_IGNORE_OUTGOING,
    PACKET_VNET_HDR,
    SOL_PACKET,
    VNET_HEADER,
    hear_everything,
)

_LONGEST_FRAME = 1 << 16
_MOST_AT_ONCE = 64
_ETHERNET_HEADER = 14


@dataclass(frozen=True, slots=True)
class Roughness:
    """The fate of frames: the share that is lost on the way to the device, 0 to 1; seconds that
    each takes longer, one way; the longest IPv4 packet that passes, in octets.
    """

    loss: float = 0.0
    delay: float = 0.0
    longest: int = _LONGEST_FRAME


class RoughCable:
    """Passes frames on between two adapters of the calling thread's network namespace.

    Made inside it; ``start`` and ``close`` are for the event loop. Raises OSError.
    """

    def __init__(self, device_side: str, switch_side: str, roughness: Roughness) -> None:
        self._roughness = roughness
        self._device = _open(device_side)
        self._switch = _open(switch_side)
        self._chance = random.Random()

    def start(self) -> None:
        """Pass frames on from now on."""
        loop = asyncio.get_running_loop()
        rough = self._roughness
        loop.add_reader(self._device, self._pass, self._device, self._switch, 0.0)
        loop.add_reader(self._switch, self._pass, self._switch, self._device, rough.loss)

    def close(self) -> None:
        """Pass nothing on any more."""
        loop = asyncio.get_running_loop()
        for sock in (self._device, self._switch):
            loop.remove_reader(sock)
            sock.close()

    def _pass(self, source: socket.socket, goal: socket.socket, loss: float) -> None:
        longest = self._roughness.longest + VNET_HEADER + _ETHERNET_HEADER
        for _ in range(_MOST_AT_ONCE):
            try:
                frame = source.recv(_LONGEST_FRAME)
            except OSError:
                return
            if len(frame) > longest or (loss and self._chance.random() < loss):
                continue
            if self._roughness.delay:
                loop = asyncio.get_running_loop()
                loop.call_later(self._roughness.delay, _send, goal, frame)
            else:
                _send(goal, frame)


def _send(goal: socket.socket, frame: bytes) -> None:
    # A cable that was taken away meanwhile, or is full, loses it.
    with suppress(OSError):
        goal.send(frame)


def _open(adapter: str) -> socket.socket:
    """All frames that arrive on an adapter, each with what the kernel has left to do on it.

    Checksums that an adapter would fill in are not there yet; the header of packet(7),
    PACKET_VNET_HDR, says so, and is passed on with the frame.
    """
    sock = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, 0)
    try:
        sock.setblocking(False)
        sock.setsockopt(SOL_PACKET, PACKET_IGNORE_OUTGOING, 1)
        sock.setsockopt(SOL_PACKET, PACKET_VNET_HDR, 1)
        sock.bind((adapter, ETH_P_ALL))
        hear_everything(sock, adapter)
    except OSError:
        sock.close()
        raise
    return sock
