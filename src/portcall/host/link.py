"""Raw Ethernet on one adapter."""

import sys

if sys.platform == "win32":
    from portcall.host.windows.lacking import Refused as Link
else:
    from portcall.host.linux.link import Link

__all__ = ["Link"]
