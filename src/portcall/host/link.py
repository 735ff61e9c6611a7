"""Raw Ethernet on one adapter."""

import sys

if sys.platform == "win32":
    from portcall.host.windows.link import Link
else:
    from portcall.host.linux.link import Link

__all__ = ["Link"]
