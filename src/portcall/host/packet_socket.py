"""Numbers of Linux packet sockets that Python's ``socket`` module does not have (packet(7))."""

from __future__ import annotations

ETH_P_ALL = 0x0003
"""Frames of every EtherType (linux/if_ether.h)."""

SOL_PACKET = 263
"""The level of the options below (socket.h)."""

PACKET_STATISTICS = 6
"""Frames that passed the filter, and how many of them found no room; reading sets both to zero."""

PACKET_AUXDATA = 8
"""Have the kernel tell a frame's status along with it."""

PACKET_IGNORE_OUTGOING = 23
"""Do not hear what this computer sends."""

PACKET_OUTGOING = 4
"""The type of a frame that goes out (linux/if_packet.h)."""
