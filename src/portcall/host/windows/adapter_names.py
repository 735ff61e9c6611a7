"""The names of this computer's adapters: all that completing a name needs."""

from __future__ import annotations

from portcall.host.windows import tables

_LOOPBACK = 24


def adapter_names() -> list[str]:
    """Every adapter but the loopback."""
    return [each.name for each in tables.adapters() if each.kind != _LOOPBACK]
