"""The names of this computer's adapters: all that completing a name needs."""

from __future__ import annotations

import socket


def adapter_names() -> list[str]:
    """Every adapter but the loopback."""
    return [name for _, name in socket.if_nameindex() if name != "lo"]
