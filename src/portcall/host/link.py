"""Raw Ethernet on one adapter."""

from portcall.host.linux.link import Link

__all__ = ["Link"]
