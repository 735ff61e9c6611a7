"""TCP connections from one adapter."""

import sys

if sys.platform == "win32":
    from portcall.host.windows.streams import Stream, connect
else:
    from portcall.host.linux.streams import Stream, connect

__all__ = ["Stream", "connect"]
