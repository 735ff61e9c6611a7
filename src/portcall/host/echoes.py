"""ICMP echoes on one adapter."""

import sys

if sys.platform == "win32":
    from portcall.host.windows.echoes import Echoes, own_identifier
else:
    from portcall.host.linux.echoes import Echoes, own_identifier

__all__ = ["Echoes", "own_identifier"]
