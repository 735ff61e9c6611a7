"""What a firewall of this computer keeps from this program: of Linux' that is seen when it does."""

from __future__ import annotations


def keeps_out(port: int) -> str | None:
    """None: frames are heard before any rule is asked."""
    return None
