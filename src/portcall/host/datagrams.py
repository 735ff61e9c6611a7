"""UDP on one adapter."""

import sys

if sys.platform == "win32":
    from portcall.host.windows.datagrams import Datagrams
else:
    from portcall.host.linux.datagrams import Datagrams

__all__ = ["Datagrams"]
