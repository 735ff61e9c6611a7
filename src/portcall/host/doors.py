"""Connecting to many TCP ports at once: the medium of ``DoorKnock``."""

from portcall.host.linux.doors import Doors

__all__ = ["Doors"]
