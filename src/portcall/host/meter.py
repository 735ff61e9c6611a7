"""Counting what really leaves an adapter."""

import sys

if sys.platform == "win32":
    from portcall.host.windows.meter import Meter
else:
    from portcall.host.linux.meter import Meter

__all__ = ["Meter"]
