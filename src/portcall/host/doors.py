"""Connecting to many TCP ports at once: the medium of ``DoorKnock``."""

import sys

if sys.platform == "win32":
    from portcall.host.windows.doors import Doors
else:
    from portcall.host.linux.doors import Doors

__all__ = ["Doors"]
