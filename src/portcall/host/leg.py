"""A second leg on the wire: an address borrowed in a subnet that the workstation is not in."""

import sys

if sys.platform == "win32":
    from portcall.host.windows.leg import Leg
else:
    from portcall.host.linux.leg import Leg

__all__ = ["Leg"]
