"""Questions with a time to live: the media of ``Trace``."""

import sys

if sys.platform == "win32":
    from portcall.host.windows.lacking import Refused as DoorHops
    from portcall.host.windows.lacking import Refused as EchoHops
else:
    from portcall.host.linux.hops import DoorHops, EchoHops

__all__ = ["DoorHops", "EchoHops"]
