"""TCP connections from one adapter."""

from portcall.host.linux.streams import Stream, connect

__all__ = ["Stream", "connect"]
