"""Questions with a time to live: the media of ``Trace``."""

from portcall.host.linux.hops import DoorHops, EchoHops

__all__ = ["DoorHops", "EchoHops"]
