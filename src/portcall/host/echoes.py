"""ICMP echoes on one adapter."""

import sys

if sys.platform == "win32":
    from portcall.host.windows.lacking import Refused as Echoes
    from portcall.host.windows.lacking import refuse as own_identifier
else:
    from portcall.host.linux.echoes import Echoes, own_identifier

__all__ = ["Echoes", "own_identifier"]
