"""Counting what really leaves an adapter."""

import sys

if sys.platform == "win32":
    from portcall.host.windows.lacking import Refused as Meter
else:
    from portcall.host.linux.meter import Meter

__all__ = ["Meter"]
