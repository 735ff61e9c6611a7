"""The addresses at which equipment commonly starts; a file that this program brings."""

from __future__ import annotations

from functools import cache
from importlib.resources import files
from ipaddress import IPv4Address

_FILE = "starting-addresses.txt"


@cache
def starting_addresses() -> tuple[IPv4Address, ...]:
    """All of them, the likeliest first."""
    text = (files("portcall.site") / _FILE).read_text(encoding="ascii")
    lines = (line.strip() for line in text.splitlines())
    return tuple(IPv4Address(line) for line in lines if line and not line.startswith("#"))
